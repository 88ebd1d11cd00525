"""What stands under a point: stored number, physical value, shown level and colour."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.spectra import OUTSIDE
from spectrane.display.drawing import Rgba
from spectrane.display.hurry import QUICK, in_a_hurry
from spectrane.display.layers import Layer, PlannedLayer
from spectrane.display.outlines import Outline
from spectrane.display.plan import RenderPlan, resolve
from spectrane.kernels.records import record
from spectrane.model.colors import color_text
from spectrane.model.errors import LookError
from spectrane.model.grid import CrsLike
from spectrane.model.marks import tell_picture
from spectrane.model.physical import physical_number
from spectrane.model.source import Source, called, flat_source_of
from spectrane.model.view import View
from spectrane.model.window import Window, whole, window_area
from spectrane.spatial.regions import Place, is_inside, point_places

_WHOLE = 4_000_000
"""Local contrast is drawn of all of a raster up to so many pixels, and near the point above."""
_NEAR = 1000


def _places(
    source: Source, *, x: float | None = None, y: float | None = None, row: int | None = None,
    column: int | None = None, points: Any = None, crs: CrsLike | None = None,
) -> list[Place]:  # fmt: skip
    """Return where points lie in a raster: one by map position or pixel, or many."""
    if points is not None:
        return point_places(source, points, crs)
    given = {"x": x, "y": y, "row": row, "column": column}
    return point_places(source, [{k: v for k, v in given.items() if v is not None}], crs)


SAMPLED = "level by limits of a sample; a render finds those of all, and they are kept"


@record(frozen=True)
class Asked:
    """A layer that is asked: its numbers, how they are shown, and ``shown``, what is left of them
    where a threshold or a mask hides some.
    """

    name: str
    source: Source
    shown: Source
    plan: RenderPlan
    drawn: dict[Window, tuple[NDArray[np.int32], Rgba, NDArray[np.bool_]]] = field(
        default_factory=dict
    )

    @classmethod
    def of(cls, given: Any, number: int) -> Asked:
        """Return what a raster, a (raster, look) pair, or a layer is asked as."""
        if isinstance(given, Outline):
            raise LookError(f"probe: {given.title} is an outline, and has no numbers")
        if isinstance(given, PlannedLayer):
            return cls(given.layer.title, given.layer.source, given.source, given.plan)
        pair = given if isinstance(given, tuple) else (given, None)
        layer = given if isinstance(given, Layer) else Layer(*pair)
        source = flat_source_of(layer.source)
        name = layer.name or called(source, f"layer {number}")
        with in_a_hurry():
            plan = resolve(source, layer.look)
        plan.tell()
        return cls(name, source, layer.hidden(), plan)


def probed(layers: Sequence[Any], **where: Any) -> list[dict[str, Any]]:
    """Return a row per point, layer and band.

    ``layers`` are rasters, (raster, look) pairs, or layers. Positions are those of the first; a
    layer that a point misses has no row for it.

    Columns: ``point layer row column band stored physical unit level color shown note``; ``level``
    is 0…255 or the entry of the colour map, ``color`` the pixel as it is drawn, both only for bands
    that are shown; ``shown`` is False where the pixel is hidden. A point outside the first layer
    has one row, whose ``note`` says so; where all lie outside, GridMismatch is raised.
    """
    if not layers:
        raise LookError("probe: expected one raster or more")
    asked = [Asked.of(layer, number) for number, layer in enumerate(layers, 1)]
    first = asked[0].source
    for layer in asked:
        tell_picture(layer.source)
    rows = []
    for place in _places(first, **where):
        if not is_inside(first, place):
            rows.append(_outside(asked[0], place))
            continue
        for one in asked:
            own = place if one.source is first else _same_place(first, one.source, place)
            if own is not None:
                rows += _rows(one, own)
    return rows


def _same_place(first: Source, source: Source, place: Place) -> Place | None:
    """Return where a pixel's centre of the first layer lies in another; None outside it.

    Layers are linked by map position where both have one, else by row and column.
    """
    name, row, column = place
    if first.grid.placed and source.grid.placed:
        x, y = first.grid.center(row=row, column=column)
        if first.grid.crs_text != source.grid.crs_text and first.grid.crs_text:
            x, y = View(center=(x, y), pixel=1.0, size=(1, 1),
                        crs=first.grid.crs_text).middle(source.grid)  # fmt: skip
        row, column = source.grid.locate(x=x, y=y)
    inside = 0 <= row < source.shape[0] and 0 <= column < source.shape[1]
    return (name, row, column) if inside else None


def _rows(layer: Asked, place: Place) -> list[dict[str, Any]]:
    name, row, column = place
    source, plan = layer.source, layer.plan
    everything = range(len(source.bands))
    pixels = plan.ready(source).read(everything, ((row, row + 1), (column, column + 1)))
    valid = pixels.validity[:, 0, 0]
    levels, color, seen = _drawn_at(layer, row, column)
    guessed = window_area(whole(source.shape)) > QUICK and not all(s.exact for s in plan.scales)
    rows = []
    for index in everything:
        band, stored = source.bands[index], pixels.values[index, 0, 0].item()
        drawn = index in plan.bands
        rows.append({
            "point": name, "layer": layer.name, "row": row, "column": column, "band": band.name,
            "stored": stored, "physical": physical_number(stored, band) if valid[index] else None,
            "unit": band.unit, "level": levels.get(index) if seen else None,
            "color": color if drawn else None, "shown": bool(drawn and seen),
            "note": SAMPLED if drawn and guessed else None,
        })  # fmt: skip
    return rows


def _outside(layer: Asked, place: Place) -> dict[str, Any]:
    """Return the row of a point that the first layer does not have."""
    name, row, column = place
    nothing = dict.fromkeys(("band", "stored", "physical", "unit", "level", "color"))
    return {"point": name, "layer": layer.name, "row": row, "column": column, **nothing,
            "shown": False, "note": OUTSIDE}  # fmt: skip


def _drawn_at(layer: Asked, row: int, column: int) -> tuple[dict[int, int], str, bool]:
    """Return the level of each band shown, the colour, and whether the pixel is shown at all."""
    plan = layer.plan
    window = _around(plan, layer.source.shape, row, column)
    if window not in layer.drawn:
        pixels = plan.read(layer.shown, window)
        layer.drawn.clear()  # points lie near one another, or each needs its own
        layer.drawn[window] = plan.levels(pixels), plan.draw(pixels), plan.shown(pixels)
    levels, rgba, shown = layer.drawn[window]
    at = (row - window[0][0], column - window[1][0])
    color = rgba[at]
    found: dict[int, int] = {}
    if plan.shadings:
        channels = [*levels[:, at[0], at[1]].tolist(), *([int(color[3])] * (len(plan.bands) == 4))]
        found = dict(zip(plan.bands, channels, strict=True))
    return found, color_text(color), bool(shown[at])


def _around(plan: RenderPlan, shape: Sequence[int], row: int, column: int) -> Window:
    """Return the pixels that a pixel's colour depends on."""
    near = 0
    if plan.look.local_contrast:
        if window_area(whole(shape)) <= _WHOLE:
            return whole(shape)
        near = _NEAR
    if plan.look.sharpen is not None:
        near = max(near, math.ceil(4 * plan.look.sharpen[0]) + 1)
    return ((max(0, row - near), min(shape[0], row + near + 1)),
            (max(0, column - near), min(shape[1], column + near + 1)))  # fmt: skip
