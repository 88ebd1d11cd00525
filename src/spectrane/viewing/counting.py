"""Counts of the values in view, and small pictures of bands: what limits are chosen by."""

from __future__ import annotations

import json
import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.expressions import Computed
from spectrane.analysis.ranking import count_small, sorted_counts
from spectrane.display.layers import Layer, PlannedLayer, common_grid
from spectrane.display.onto import covers
from spectrane.display.plan import RenderPlan
from spectrane.display.shading import Shading
from spectrane.display.thumbnails import is_quick
from spectrane.model.band import find_bands
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.viewing.drawing import Drawer, shape_at
from spectrane.viewing.moving import whole_of
from spectrane.viewing.session import Session

_BINS, _SAMPLE = 160, 200_000
_THUMB = 72
_MOST_THUMBS = 24


def view_counts(session: Session, drawer: Drawer) -> dict[str, Any]:
    """Return counts of the values in view of the active layer, per channel, what is cut off, and
    the shape of the curve over them.
    """
    frame = drawer.frame(session)
    planned = frame.planned[session.active_place]
    if planned is None or not planned.plan.shadings:
        return {"channels": []}
    if frame.drawn[session.active_place] is None:  # it lies elsewhere
        none = np.empty((len(planned.plan.bands), 0, 0), planned.source.dtype)
        return counts_in(Pixels(none), planned.plan)
    return counts_in(drawer.pixels(planned, frame.grid), planned.plan)


def counts_in(pixels: Pixels, plan: RenderPlan) -> dict[str, Any]:
    """Return counts of the values of pixels that a plan draws, per channel."""
    shown = pixels.shown
    found = [
        _counted(stored if shown.all() else stored[shown], shading, channel)
        for stored, shading, channel in
        zip(pixels.values, plan.shadings[:3], plan.channels, strict=False)
    ]  # fmt: skip
    return {"channels": found, "shown": float(shown.mean()) if shown.size else 0.0}


def _counted(stored: NDArray[Any], shading: Shading, channel: str) -> dict[str, Any]:
    """Return counts of a channel's values, what limits cut off of them, and the curve over them;
    limits that there are not are NaN.
    """
    values, often = _occurring(stored.ravel(), shading)
    scale = shading.scale
    low, high = min(scale.low, scale.high), max(scale.low, scale.high)
    if not math.isfinite(high - low):  # no value was valid where the limits are from
        low, high = (float(values[0]), float(values[-1])) if values.size else (0.0, 1.0)
    start, stop = low, high
    if values.size:
        reached = np.searchsorted(np.cumsum(often), np.array([0.001, 0.999]) * often.sum())
        start = min(low, float(values[reached[0]]))
        stop = max(high, float(values[min(reached[1], values.size - 1)]))
    rim = 0.05 * ((stop - start) or 1.0)
    counts, edges = np.histogram(values, _BINS, (start - rim, stop + rim), weights=often)
    way = shading.beyond(values)
    total = max(1, int(often.sum()))
    levels = shading.level_at(np.asarray(edges, np.float64))
    top = 255.0 if shading.palette is None else float(max(1, shading.palette.last))
    return {
        "channel": channel, "band": scale.band, "unit": scale.unit, "low": scale.low,
        "high": scale.high, "counts": counts.tolist(), "start": edges[0], "stop": edges[-1],
        "below": float(often[way < 0].sum() / total), "above": float(often[way > 0].sum() / total),
        "curve": [round(float(one), 3) for one in np.clip(levels / top, 0, 1)],
    }  # fmt: skip


def _occurring(stored: NDArray[Any], shading: Shading) -> tuple[NDArray[Any], NDArray[np.int64]]:
    """Return the physical values that occur, ascending, and how often; of floats and wide integers
    a sample's.
    """
    if stored.dtype.kind in "iu" and stored.dtype.itemsize <= 2:
        table = np.zeros(1 << (8 * stored.dtype.itemsize), np.int64)
        count_small(np.ascontiguousarray(stored), table)
        numbers, often = sorted_counts(stored.dtype, table)
    else:
        numbers = np.sort(stored[:: max(1, stored.size // _SAMPLE)])
        often = np.ones(numbers.size, np.int64)
    values = physical(numbers, shading.band, np.float64)
    kept = np.isfinite(values)
    values, often = values[kept], often[kept]
    return (values, often) if values.size < 2 or values[0] <= values[-1] else (
        values[::-1], often[::-1])  # fmt: skip


def spread_of(session: Session, drawer: Drawer, text: str) -> dict[str, Any]:
    """Return the least and the greatest value in view of an expression over the active layer's
    bands: between them its threshold is moved.
    """
    layer = session.layers()[session.active_place]
    if not isinstance(layer, Layer):
        return {}
    made = Layer(Computed(layer.source, {"tested": text}), Look(channels=(1,)))
    grid = common_grid(session.base, session.view(), None)
    planned = PlannedLayer.of(made, grid)
    if not covers(planned.source, grid):
        return {}
    pixels = drawer.pixels(planned, grid)
    return reach_of(pixels.values[0][pixels.shown])


def reach_of(values: NDArray[Any]) -> dict[str, Any]:
    """Return the least and the greatest finite value; nothing where there is none."""
    values = values[np.isfinite(values)]
    return {"low": float(values.min()), "high": float(values.max())} if values.size else {}


def thumbnails(session: Session, drawer: Drawer, names: str | None = None) -> dict[str, Any]:
    """Return small grey pictures of the active raster's bands, each by its own limits, as rows of
    levels; -1 where nothing is valid.

    Of the first bands; or of those that a JSON list of ``names`` names, which nobody asked to wait
    for: none of them, where they would take long.
    """
    source, layer = session.active_source, session.layers()[session.active_place]
    if source is None or not isinstance(layer, Layer):
        return {"bands": []}
    grid = PlannedLayer.of(layer, None).source.grid
    small = grid.resized(shape_at(grid, whole_of(grid, (_THUMB, _THUMB))[1]))
    chosen = list(range(min(_MOST_THUMBS, len(source.bands))))
    if names is not None:
        chosen = find_bands(source.bands, json.loads(names)[:_MOST_THUMBS])
        if not is_quick(source, small.shape, len(chosen)):
            return {"bands": []}
    found = []
    for number in (band + 1 for band in chosen):
        look = Look(channels=(number,), limits="percentile:2,98", limits_from="view")
        planned = PlannedLayer.of(Layer(layer.source, look), small)
        pixels = drawer.pixels(planned, small)
        levels = np.where(pixels.shown, planned.plan.levels(pixels)[0], -1)
        found.append({"band": source.bands[number - 1].name, "levels": levels.tolist()})
    return {"bands": found}
