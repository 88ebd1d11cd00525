"""Counts of the values in view, and small pictures of bands: what limits are chosen by."""

from __future__ import annotations

from typing import Any

import numpy as np

from spectrane.analysis.expressions import Computed
from spectrane.display.layers import Layer, PlannedLayer, common_grid
from spectrane.display.shading import Shading
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.viewing.drawing import Drawer
from spectrane.viewing.moving import whole_of
from spectrane.viewing.session import Session

_BINS = 160
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
    pixels = drawer.pixels(planned, frame.grid)
    shown = pixels.shown
    found = []
    for index, shading in enumerate(planned.plan.shadings[:3]):
        values = physical(pixels.values[index][shown], shading.band, np.float64)
        values = values[np.isfinite(values)]
        found.append(counts_of_channel(values, shading, planned.plan.channels[index]))
    return {"channels": found, "shown": float(shown.mean())}


def counts_of_channel(values: Any, shading: Shading, channel: str) -> dict[str, Any]:
    """Return counts of physical values, what limits cut off of them, and the curve over them."""
    scale = shading.scale
    low, high = min(scale.low, scale.high), max(scale.low, scale.high)
    ends = np.percentile(values, (0.1, 99.9)) if values.size else np.array([low, high])
    start, stop = min(low, float(ends[0])), max(high, float(ends[1]))
    rim = 0.05 * ((stop - start) or 1.0)
    counts, edges = np.histogram(values, _BINS, (start - rim, stop + rim))
    way = shading.beyond(values)
    total = max(1, values.size)
    levels = shading.level_at(np.asarray(edges, np.float64))
    top = 255.0 if shading.palette is None else float(max(1, shading.palette.last))
    return {
        "channel": channel, "band": scale.band, "unit": scale.unit, "low": scale.low,
        "high": scale.high, "counts": counts.tolist(), "start": edges[0], "stop": edges[-1],
        "below": float((way < 0).sum() / total), "above": float((way > 0).sum() / total),
        "curve": [round(float(one), 3) for one in np.clip(levels / top, 0, 1)],
    }  # fmt: skip


def spread_of(session: Session, drawer: Drawer, text: str) -> dict[str, Any]:
    """Return the least and the greatest value in view of an expression over the active layer's
    bands: between them its threshold is moved.
    """
    layer = session.layers()[session.active_place]
    if not isinstance(layer, Layer):
        return {}
    made = Layer(Computed(layer.source, {"tested": text}), Look(channels=(1,)))
    grid = common_grid(session.base, session.view(), None)
    pixels = drawer.pixels(PlannedLayer.of(made, grid), grid)
    values = pixels.values[0][pixels.shown]
    values = values[np.isfinite(values)]
    return {"low": float(values.min()), "high": float(values.max())} if values.size else {}


def thumbnails(session: Session, drawer: Drawer) -> dict[str, Any]:
    """Return small grey pictures of the active raster's bands, each by its own limits, as rows of
    levels; -1 where nothing is valid.
    """
    source, layer = session.active_source, session.layers()[session.active_place]
    if source is None or not isinstance(layer, Layer):
        return {"bands": []}
    grid = PlannedLayer.of(layer, None).source.grid
    pixel = whole_of(grid, (_THUMB, _THUMB))[1]
    x_min, y_min, x_max, y_max = grid.bounds
    size = (max(1, round((y_max - y_min) / pixel)), max(1, round((x_max - x_min) / pixel)))
    small = grid.resized(size)
    found = []
    for number, band in enumerate(source.bands[:_MOST_THUMBS], 1):
        look = Look(channels=(number,), limits="percentile:2,98", limits_from="view")
        planned = PlannedLayer.of(Layer(layer.source, look), small)
        pixels = drawer.pixels(planned, small)
        levels = np.where(pixels.shown, planned.plan.levels(pixels)[0], -1)
        found.append({"band": band.name, "levels": levels.tolist()})
    return {"bands": found}
