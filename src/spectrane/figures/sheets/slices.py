"""A finished sheet of slices of a volume: captions, letters of the patient's sides, bars, scale."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING

from matplotlib.figure import Figure

from spectrane.display.keys import Key, Shown
from spectrane.display.sheet_settings import Orientation, SheetSettings
from spectrane.display.slice_layers import Ready, prepared
from spectrane.display.slice_page import DrawnSlice, drawn_slice
from spectrane.display.slices import extent_of_plane, said_place, slice_places
from spectrane.figures.keys import STEPS
from spectrane.figures.paper import blank, finished_chart, on_paper
from spectrane.figures.sheets.elements import HEAD, TEXT, Notes, ScaleBar, SheetElement
from spectrane.figures.sheets.framing import Extent, Framed, round_scale
from spectrane.figures.sheets.insets import own_picture
from spectrane.figures.sheets.legend import legend_elements
from spectrane.figures.sheets.pen import MM, Box, Pen, line_height
from spectrane.figures.sheets.placing import GAP, in_column
from spectrane.figures.sheets.sheet import DrawnSheet, paper_sides
from spectrane.figures.sheets.words import Words
from spectrane.kernels.quiet import quiet
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.said import date_of, date_text
from spectrane.model.source import called
from spectrane.spatial.ground import Ground
from spectrane.spatial.slicing import PlaneName, Side, SliceAxes, SlicePlane

if TYPE_CHECKING:
    from spectrane.display.slices import VolumesShown

_BETWEEN = 1.5
_LIGHT = "#ebebe1"


@record(frozen=True)
class Cuts:
    """Which slices stand on a sheet."""

    plane: PlaneName = "axial"
    count: int = 12
    span: Sequence[float] | None = None
    side: Side = "radiological"
    axes: SliceAxes = "patient"


@quiet
def slice_sheet(
    layers: VolumesShown, plane: PlaneName = "axial", *, count: int = 12,
    span: Sequence[float] | None = None, side: Side = "radiological", axes: SliceAxes = "patient",
    title: str = "", subtitle: str = "", notes: str = "", sources: str | None = None,
    date: str | None = None, paper: str = "A4", orientation: Orientation = "auto",
    margin: float = 12.0, scale: float | str | None = None, picture: str | None = None,
    across: int | None = None, dots: int = 200, figure: Figure | None = None,
) -> Figure:  # fmt: skip
    """Return a sheet of ``count`` slices of volumes, evenly over ``span`` mm or what is not empty.

    ``layers``, ``plane``, ``span``, ``side`` and ``axes`` are those of ``spectrane.montage``, the
    others those of ``figures.sheet``; ``scale`` "1:1" shows the patient at true size on paper.
    Raises LookError for what has no room.

    >>> import numpy as np, spectrane as sp
    >>> volume = sp.volume_from_array(np.arange(512.0).reshape(8, 8, 8), affine=np.eye(4))
    >>> len(sp.figures.slice_sheet(volume, count=4, title="Joint", scale="2:1").axes) >= 4
    True
    """
    settings = SheetSettings(
        title, subtitle, notes, sources, date, paper, orientation, margin, scale, picture=picture,
        across=across, dots=dots,
    )  # fmt: skip
    cuts = Cuts(plane, count, span, side, axes)
    return drawn_slice_sheet(layers, cuts, settings, figure).figure


def drawn_slice_sheet(
    layers: VolumesShown, cuts: Cuts, settings: SheetSettings, figure: Figure | None = None
) -> DrawnSheet:  # fmt: skip
    """Draw a sheet of slices: see ``slice_sheet``."""
    ready = prepared(layers, cuts.axes)
    places = slice_places(ready, cuts.plane, cuts.count, cuts.span)
    wide, high = extent_of_plane(ready, cuts.plane)
    paper = paper_sides(settings, lying=True)
    sides = (paper[0] / MM, paper[1] / MM)
    pen = Pen(blank(*sides, "white", settings.dots) if figure is None else (
        on_paper(figure, *sides, "white", settings.dots)))  # fmt: skip
    words = Words(pen, settings, _small_print(ready, cuts, settings))
    room = words.room()
    aside = min(60.0, max(36.0, room.width * 0.22))
    left = replace(room, width=room.width - aside - GAP)
    boxes, scale = _cells(left, cuts.count, (wide, high), settings)
    extent = Extent(Grid((1, 1)), (0.0, 0.0, wide, high), Ground(1e-3, 1e-3, "mm"))
    frames = [Framed(box, extent, scale) for box in boxes]
    column = Box(room.right - aside, boxes[0].top, aside, room.bottom - boxes[0].top)
    placed = in_column(pen, _elements(ready, frames[0], settings), column)
    words.draw()
    per_mm = boxes[0].width / wide * settings.dots / MM
    for box, place in zip(boxes, places, strict=True):
        cut = drawn_slice(ready, cuts.plane, per_mm, {"at": place, "side": cuts.side})
        _draw_slice(pen, box, cut, SlicePlane.of(cuts.plane, cuts.side), said_place(place),
                    letters=ready[0].source.grid.placed)  # fmt: skip
    for one in placed:
        one.element.draw(pen, one.box)
    elements = tuple((one.element.name, one.box) for one in placed)
    return DrawnSheet(finished_chart(pen.figure), tuple(frames), elements, words.foot)


def _cells(
    room: Box, count: int, sides: tuple[float, float], settings: SheetSettings
) -> tuple[list[Box], float]:
    """Return the places of slices, as large as can be or of the scale asked for, and the scale."""
    caption = line_height(TEXT) + 0.4
    best: tuple[float, int] | None = None
    for across in [settings.across] if settings.across else range(1, count + 1):
        down = -(-count // across)
        wide = (room.width - (across - 1) * _BETWEEN) / across
        high = (room.height - (down - 1) * _BETWEEN) / down - caption
        factor = min(wide / sides[0], high / sides[1])
        if factor > 0 and (best is None or factor > best[0]):
            best = factor, across
    if best is None:
        raise LookError(f"the sheet has no room for {count} slices; take larger paper")
    factor, across = best
    asked = settings.scale
    scale = float(asked) if asked is not None else round_scale(1 / factor)
    if 1 / scale > factor * (1 + 1e-9):
        raise LookError(
            f"scale 1:{scale:g}: {count} slices of {sides[0]:.0f} x {sides[1]:.0f} mm have room at "
            f"1:{round_scale(1 / factor):g}; take larger paper, or fewer slices"
        )
    wide, high = sides[0] / scale, sides[1] / scale
    return [
        Box(room.left + k % across * (wide + _BETWEEN),
            room.top + k // across * (high + caption + _BETWEEN) + caption, wide, high)
        for k in range(count)
    ], scale  # fmt: skip


def _draw_slice(
    pen: Pen, box: Box, cut: DrawnSlice, plane: SlicePlane, caption: str, *, letters: bool
) -> None:
    """Draw a slice, its caption above it, and letters at its edges where the place is known."""
    pen.image(box, cut.rgba)
    pen.text(box.left, box.top - 0.5, caption, TEXT, va="bottom")
    if not letters:
        return
    middle, center = box.left + box.width / 2, box.top + box.height / 2
    places = {
        "left": (box.left + 0.8, center, "left", "center"),
        "right": (box.right - 0.8, center, "right", "center"),
        "top": (middle, box.top + 0.5, "center", "top"),
        "bottom": (middle, box.bottom - 0.5, "center", "bottom"),
    }  # fmt: skip
    for side, letter in plane.labels.items():
        x, y, ha, va = places[side]
        pen.text(x, y, letter, HEAD if box.width > 30 else TEXT, color=_LIGHT, ha=ha, va=va,
                 weight="bold")  # fmt: skip


def _elements(ready: Sequence[Ready], frame: Framed, settings: SheetSettings) -> list[SheetElement]:
    keys: dict[str, Key] = {}
    for one in ready:
        if one.layer.visible and (len(one.plan.shadings) == 1 or one.plan.classes):
            key = Shown(one.layer.title, one.plan).key(STEPS)
            if key is not None:
                keys.setdefault(f"{one.plan.scales} {one.plan.classes}", key)
    found: list[SheetElement] = [*legend_elements(list(keys.values()), [])]
    found += [Notes(settings.notes)] if settings.notes else []
    found += [own_picture(settings.picture)] if settings.picture else []
    return [*found, ScaleBar(frame)]


def _small_print(
    ready: Sequence[Ready], cuts: Cuts, settings: SheetSettings
) -> tuple[str, ...]:  # fmt: skip
    """Return what stands at the foot: sources and date, and how the slices lie."""
    sources = settings.sources
    if sources is None:
        sources = ", ".join(dict.fromkeys(called(one.layer.source) for one in ready))
    date = settings.date
    if date is None:
        found = date_of(ready[0].layer.source.metadata)
        date = "" if found is None else date_text(found)
    right = "left" if cuts.side == "radiological" else "right"
    lies = f"{cuts.plane} slices" + (
        f", the patient's right on the {right}" if cuts.plane != "sagittal" else "")  # fmt: skip
    tested = [f"{one.layer.title}: where {one.layer.threshold}" for one in ready
              if one.layer.threshold is not None]  # fmt: skip
    said = [f"Sources: {sources}" if sources else "", f"Date: {date}" if date else "", lies]
    return ("   ·   ".join(text for text in (*said, *tested) if text),)
