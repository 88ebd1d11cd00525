"""One slice drawn, and what the slices of one picture have in common: letters, bars, room."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.bars import bars_panel
from spectrane.display.drawing import Rgba
from spectrane.display.keys import Shown
from spectrane.display.layers import stacked, to_read
from spectrane.display.lettering import caption_height, font_of_height, lines_that_fit
from spectrane.display.panels import (
    GAP,
    dark,
    draw_edge,
    draw_rims,
    on_dark,
    panels_in_a_row,
    write_letters,
)
from spectrane.display.picture import Picture
from spectrane.display.slice_layers import Ready, flat
from spectrane.kernels.records import record
from spectrane.model.grid import Grid
from spectrane.spatial.slicing import SlicePlane


@record(frozen=True)
class DrawnSlice:
    """A slice as it is drawn, on its grid, and what is known of the lowest layer's cut.

    ``colors`` are those that each layer of classes has in it, by its title.
    """

    rgba: Rgba
    grid: Grid
    cut: dict[str, Any]
    colors: dict[str, NDArray[np.uint32]]


def drawn_slice(
    ready: Sequence[Ready], plane: str, scale: float, where: dict[str, Any],
    grid: Grid | None = None,
) -> DrawnSlice:  # fmt: skip
    """Draw a slice at ``scale`` pixels per millimetre, in true proportion, or onto a grid."""
    layers, outlined = flat(ready, plane, where)
    if grid is None:
        grid = _scaled(layers[0].source.grid, scale)
    stack = stacked(layers, grid=grid, tell=False)
    rims = {one.layer.title: one.layer for one in ready if one.layer.rims and one.layer.visible}
    rgba = on_dark(stack.blended() if rims or outlined else to_read(stack))  # drawn on in place
    for one in outlined:
        alone = stacked([one], grid=stack.grid, tell=False)
        draw_edge(rgba, alone.blended()[..., 3] > 0)
    colors = {}
    for drawn in stack.layers:
        if drawn.planned is not None and drawn.planned.plan.classes:
            words = np.ascontiguousarray(drawn.rgba).view(np.uint32)
            colors[drawn.title] = np.unique(words)
            if drawn.title in rims:
                draw_rims(rgba, drawn.rgba, rims[drawn.title].opacity)
    lowest: Any = layers[0]
    return DrawnSlice(rgba, stack.grid, lowest.source.metadata["slice"], colors)


def _scaled(grid: Grid, scale: float) -> Grid:
    rows, columns = (max(1, round(n * side * scale)) for n, side in
                     zip(grid.shape, grid.pixel_size[::-1], strict=True))  # fmt: skip
    return grid.resized((rows, columns))


@record(frozen=True)
class SlicePage:
    """What the slices of one picture have in common: layers, room, letters, bars."""

    ready: Sequence[Ready]
    size: tuple[int, int]
    text: int
    labels: bool
    reserved: int = 0
    """Columns that are kept for bars, so that pictures of one sequence have one size."""
    seen: dict[str, list[NDArray[np.uint32]]] = field(default_factory=dict)
    """The colours that layers of classes had in what was drawn."""
    kept: dict[Any, Rgba | None] = field(default_factory=dict)
    """Bars that are the same in all pictures of a sequence."""

    @classmethod
    def of(cls, ready: Sequence[Ready], size: Sequence[int], labels: bool) -> SlicePage:
        """Return a page whose ``size`` is what bars leave of the size asked for."""
        text = max(10, min(16, size[1] // 80))
        page = cls(ready, (size[0], size[1]), text, labels)
        bars = page.bars(size[0])
        wide = 0 if bars is None else min(bars.shape[1], size[1] // 2 - GAP)
        taken = wide + GAP if wide else 0
        return replace(page, size=(size[0], size[1] - taken), reserved=wide)

    def saw(self, drawn: DrawnSlice) -> DrawnSlice:
        """Remember which classes were drawn, for the key."""
        for title, colors in drawn.colors.items():
            self.seen.setdefault(title, []).append(colors)
        return drawn

    def _classes(self, title: str) -> Rgba | None:
        """Return the colours that a layer of classes had, as a picture of one row."""
        if title not in self.seen:
            return None
        words = np.unique(np.concatenate(self.seen[title]))
        return words.view(np.uint8).reshape(1, -1, 4)

    def bars(self, rows: int) -> Rgba | None:
        """Return the bars of all layers that have one, each scale once."""
        if not self.labels or rows < 8 * self.text:
            return None
        shown: dict[str, Shown] = {}
        for one in self.ready:
            if one.layer.visible and (len(one.plan.shadings) == 1 or one.plan.classes):
                said = f"{one.plan.scales} {one.plan.classes}"
                if one.plan.scales and not one.plan.classes:  # by which rule is not on the bar
                    plain = [replace(scale, limits="") for scale in one.plan.scales]
                    said = f"{plain} {one.plan.look.colormap}"
                drawn = self._classes(one.layer.title) if one.plan.classes else None
                shown.setdefault(said, Shown(one.layer.title, one.plan, rgba=drawn))
        named = any(one.plan.classes for one in self.ready)  # whose key lists what is in a picture
        told = tuple((said, one.title) for said, one in shown.items())
        question = None if named else (told, rows, self.reserved)
        if question is not None and question in self.kept:
            return self.kept[question]
        bars = bars_panel(list(shown.values()), rows, self.text)
        if question is not None:
            self.kept[question] = self._reserved(bars)
        return self._reserved(bars)

    def _reserved(self, bars: Rgba | None) -> Rgba | None:
        return bars if bars is None or not self.reserved else _of_width(bars, self.reserved)

    def write(
        self, rgba: Rgba, plane: SlicePlane, caption: str, *, edges: bool = True,
        of: Sequence[Ready] | None = (),
    ) -> None:  # fmt: skip
        """Write letters and a caption; sides only where the volume's place is known.

        Below it stands what changes the meaning of the layers ``of`` it (None: of all).
        """
        if self.labels:
            own = plane.letters is None and not np.array_equal(self.ready[0].turn, np.eye(3))
            caption += ", own axes" if own and edges else ""
            layers = self.ready if of is None else of
            meant = [(one.layer.title, one.meaning()) for one in layers if one.layer.visible]
            lines = [f"{title} {text}" for title, text in dict(meant).items() if text]
            font = font_of_height(caption_height(self.text))
            caption = "\n".join([caption, *(
                part for line in lines for part in lines_that_fit(line, font, rgba.shape[1] - 10)
            )])  # fmt: skip
            known = self.ready[0].source.grid.placed
            write_letters(rgba, plane, caption, self.text, edges=edges and known)

    def picture(self, rgba: Rgba, grid: Grid | None = None) -> Picture:
        """Return the picture with its bars at the right; positions on it are the slice's."""
        bars = self.bars(rgba.shape[0])
        rgba = rgba if bars is None else panels_in_a_row([rgba, bars])
        grid = replace(grid or Grid(rgba.shape[:2]), shape=rgba.shape[:2])
        ready = self.ready
        scales = tuple(scale for one in ready for scale in one.plan.scales)
        notes = tuple(
            f"Layer {k}: {one.layer.title}, frame {one.source.bands[one.frames[0]].name}"
            + (f", {one.meaning()}" if one.meaning() else "")
            for k, one in enumerate(ready, 1)
        )
        names = ", ".join(one.layer.title for one in ready)
        return Picture(rgba, grid, scales, names, notes)


def _of_width(bars: Rgba, columns: int) -> Rgba:
    """Return bars in so many columns, cut or with dark beside them."""
    wide = dark(len(bars), columns)
    kept = min(columns, bars.shape[1])
    wide[:, :kept] = bars[:, :kept]
    return wide
