"""Drawing what is in view by the display plan, with the pixels kept: another look reads nothing."""

from __future__ import annotations

import threading
from collections import OrderedDict
from dataclasses import dataclass, field
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.display.layers import (
    DrawnLayer,
    Layer,
    PlannedLayer,
    Stack,
    as_layer,
    common_grid,
    to_read,
)
from spectrane.display.misleading import misleading
from spectrane.display.onto import covers, drawn_with_pixels, redrawn
from spectrane.display.outlines import Outline, draw_outline
from spectrane.display.plan import RenderPlan
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import Grid
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.model.view import View
from spectrane.spatial.coordinates import Mapping
from spectrane.viewing.moving import whole_of
from spectrane.viewing.session import Session

KEPT = 56 << 20
"""Bytes of pixels, and of pictures of them, that are kept."""
LOOKS = 4
"""Pictures of the same pixels that are kept: each panel may have a look of its own."""


@record(frozen=True, eq=False)
class ViewFrame:
    """A picture and the layers it was blended of, the lowest first.

    ``drawn`` is None of layers that are hidden or elsewhere, ``planned`` of outlines and hidden
    ones; ``trouble`` is why a layer could not be drawn.
    """

    rgba: NDArray[np.uint8]
    grid: Grid
    drawn: tuple[DrawnLayer | None, ...]
    planned: tuple[PlannedLayer | None, ...]
    trouble: tuple[str | None, ...]


@record(frozen=True)
class Judged:
    """What of a layer is to be looked at twice, and which share of its pixels in view is hidden."""

    told: tuple[str, ...]
    masked: float = 0.0


_Layered: TypeAlias = tuple[DrawnLayer | None, PlannedLayer | None, str | None]


@dataclass
class Drawer:
    """Draws sessions; keeps the pixels last read and what was drawn of them, the longest unused go
    first.
    """

    most: int = KEPT
    reads: int = 0
    _kept: OrderedDict[Any, Pixels] = field(default_factory=OrderedDict)
    _pictures: dict[Any, list[tuple[RenderPlan, NDArray[np.uint8]]]] = field(default_factory=dict)
    _frames: dict[int | None, ViewFrame] = field(default_factory=dict)
    _lock: Any = field(default_factory=threading.Lock)

    def frame(self, session: Session, panel: int | None = None) -> ViewFrame:
        """Draw what a panel shows, or the active one: the very pixels that ``render`` gives.

        Raises GridMismatch, LookError, and what reading raises.
        """
        return self._drawn_on(session, panel, common_grid(session.base, session.view(), None))

    def overview(self, session: Session, longest: int) -> ViewFrame:
        """Draw all of the lowest raster as the active panel shows it, small."""
        base = session.base
        (x, y), pixel = whole_of(base, (longest, longest))
        view = View(center=(x, y), pixel=pixel, size=shape_at(base, pixel))
        return self._drawn_on(session, None, common_grid(base, view, None))

    def _drawn_on(self, session: Session, panel: int | None, grid: Grid) -> ViewFrame:
        each = [self._layer(layer, grid) for layer in session.layers(panel)]
        drawn, planned, trouble = zip(*each, strict=True)
        seen = tuple(one for one in drawn if one is not None)
        before = self._frames.get(panel)
        if before is not None and before.grid == grid and _alike(before.drawn, drawn):
            rgba = before.rgba
        else:
            rgba = np.ascontiguousarray(to_read(Stack(grid, seen)))
        self._frames[panel] = ViewFrame(rgba, grid, drawn, planned, trouble)
        return self._frames[panel]

    def _layer(self, layer: Layer | Outline, grid: Grid) -> _Layered:
        if not layer.visible:
            return None, None, None
        if isinstance(layer, Outline):
            return DrawnLayer(layer, layer.title, draw_outline(layer, grid)), None, None
        made: Any = as_layer(layer)
        try:
            planned = PlannedLayer.of(made, grid)
            if not covers(planned.source, grid):
                return None, planned, None
        except GridMismatch as error:
            return None, None, str(error)
        return DrawnLayer(made, made.title, self._drawn(planned, grid)[0], planned), planned, None

    def judged(self, frame: ViewFrame) -> list[Judged]:
        """Judge each layer of a picture: longer work than drawing, asked when all rests."""
        found = []
        for drawn, planned, trouble in zip(frame.drawn, frame.planned, frame.trouble, strict=True):
            if drawn is None or planned is None:
                found.append(Judged(() if trouble is None else (trouble,)))
                continue
            pixels = self.pixels(planned, frame.grid)
            told = (*planned.plan.warnings, *misleading(planned.plan, pixels, drawn.rgba))
            found.append(Judged(tuple(dict.fromkeys(told)), _masked(planned, pixels, frame.grid)))
        return found

    def pixels(self, planned: PlannedLayer, grid: Grid) -> Pixels:
        """Return the pixels of a layer in view, from those kept."""
        return self._drawn(planned, grid)[1]

    def beyond(self, planned: PlannedLayer, grid: Grid) -> NDArray[np.int8]:
        """Return (rows, columns): -1 where a value shown lies below its limits, 1 above, else 0."""
        pixels = self.pixels(planned, grid)
        found = np.zeros(grid.shape, np.int8)
        for values, shading in zip(pixels.values, planned.plan.shadings[:3], strict=False):
            way = shading.beyond(physical(values, shading.band, np.float64))
            np.copyto(found, way, where=way != 0)
        found[~pixels.shown] = 0
        return found

    def _drawn(self, planned: PlannedLayer, grid: Grid) -> tuple[NDArray[np.uint8], Pixels]:
        """Draw a layer onto the view, from pixels that are kept where they are the same."""
        plan, layer = planned.plan, planned.layer
        key = (id(layer.source), layer.threshold, id(layer.mask), plan.bands, plan.nodata_when,
               plan.categories, plan.look.resample, grid)  # fmt: skip
        with self._lock:
            known = self._kept.get(key)
            if known is not None:
                self._kept.move_to_end(key)
            drawn = self._pictures.get(key, [])
            rgba = next((one for made, one in drawn if _same_plan(made, plan)), None)
        if known is not None and rgba is not None:
            return rgba, known
        if known is not None:
            rgba, pixels = redrawn(plan, planned.source, grid, known, drawn[-1]), known
        else:
            rgba, pixels = drawn_with_pixels(plan, planned.source, grid)
        with self._lock:
            self.reads += known is None
            self._kept[key] = pixels
            self._pictures[key] = [*self._pictures.get(key, [])[1 - LOOKS :], (plan, rgba)]
            self._forget()
        return rgba, pixels

    def _forget(self) -> None:
        """Drop what was not used for longest, until what is left fits."""
        while self.held > self.most and len(self._kept) > 1:
            key, _ = self._kept.popitem(last=False)
            self._pictures.pop(key, None)

    @property
    def held(self) -> int:
        """Bytes of pixels and pictures that are kept."""
        pixels = sum(one.values.nbytes for one in self._kept.values())
        return pixels + sum(rgba.nbytes for drawn in self._pictures.values() for _, rgba in drawn)


def _alike(before: tuple[DrawnLayer | None, ...], after: tuple[DrawnLayer | None, ...]) -> bool:
    """Tell whether layers were drawn before as they are now, and lie on one another alike."""

    def how(one: DrawnLayer | None) -> Any:
        return None if one is None else (id(one.rgba), one.layer.opacity, one.mode)

    return [how(one) for one in before] == [how(one) for one in after]


def _same_plan(one: RenderPlan, other: RenderPlan) -> bool:
    """Tell whether two plans of the same pixels draw them alike."""
    return (one.look, one.shadings, one.alpha) == (other.look, other.shadings, other.alpha)


def _masked(planned: PlannedLayer, pixels: Pixels, grid: Grid) -> float:
    """Return which share of a raster's pixels in view is hidden, by a sample of 65 x 65."""
    shown = pixels.shown
    if shown.all():
        return 0.0
    rows, columns = grid.shape
    r, c = np.meshgrid(np.linspace(0, rows - 1, 65).astype(int),
                       np.linspace(0, columns - 1, 65).astype(int), indexing="ij")  # fmt: skip
    x, y = Mapping(grid, planned.source.grid).exact(c + 0.5, r + 0.5)
    height, width = planned.source.shape
    with np.errstate(invalid="ignore"):
        inside = (x >= 0) & (x < width) & (y >= 0) & (y < height)
    return float((~shown[r, c])[inside].mean()) if inside.any() else 0.0


def shape_at(grid: Grid, pixel: float) -> tuple[int, int]:
    """Return the rows and columns of a picture of all of a grid whose pixel is of this size."""
    x_min, y_min, x_max, y_max = grid.bounds
    return max(1, round((y_max - y_min) / pixel)), max(1, round((x_max - x_min) / pixel))
