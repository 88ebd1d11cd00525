"""What the page is told: layers and looks, values under the pointer, counts of what is in view."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.display.layers import Layer, PlannedLayer
from spectrane.display.probing import probed
from spectrane.kernels.blending import MODES
from spectrane.model.colormaps import PURPOSES, colormaps
from spectrane.model.curves import Curve
from spectrane.model.errors import GridMismatch
from spectrane.model.limits import Limits
from spectrane.model.physical import physical
from spectrane.model.printing import printable
from spectrane.model.roles import PRESETS
from spectrane.model.rules import forms
from spectrane.model.source import source_of
from spectrane.model.systems import LONLAT, way_between
from spectrane.spatial.ground import ground_at, length_text, round_length
from spectrane.viewing.drawing import Drawer, ViewFrame
from spectrane.viewing.leaving import render_command, render_python
from spectrane.viewing.session import Session

_BINS = 160
_RULES = ("auto", "type", "minmax", "percentile:1,99", "percentile:2,98", "deviation:2",
          "deviation:3", "symmetric:99")  # fmt: skip
"""Rules that a button each stands for."""
_CURVES = ("linear", "sqrt", "square", "gamma:1.8", "log", "asinh", "logistic:8", "equalise")
_MOST_NUMBERS = 2500


def plain(value: Any) -> Any:
    """Return what JSON holds: no NaN or infinity, and texts a screen can show."""
    if isinstance(value, dict):
        return {str(key): plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [plain(one) for one in value]
    if isinstance(value, str):
        return printable(value)
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def facts(said: dict[str, Any]) -> dict[str, Any]:
    """Return a document of plain values: see ``plain``."""
    return {name: plain(value) for name, value in said.items()}


def choices() -> dict[str, Any]:
    """Return what a page may choose from, as the registries have it."""
    swatches = {name: [f"#{bytes(entry[:3]).hex()}" for entry in one.sample(24)]
                for name, one in colormaps.items()}  # fmt: skip
    return {
        "limits": list(_RULES), "limit_forms": forms(Limits), "curves": list(_CURVES),
        "curve_forms": forms(Curve), "modes": list(MODES), "presets": list(PRESETS),
        "colormaps": swatches, "purposes": dict(PURPOSES),
    }  # fmt: skip


def state_of(session: Session) -> dict[str, Any]:
    """Return how everything is shown just now."""
    state = session.state
    return facts({
        "layers": [_layer(session, number) for number in range(len(session.opened))],
        "order": state.order, "active": state.active, "center": state.center,
        "pixel": state.pixel, "own_pixel": min(session.base.pixel_size),
        "size": session.size, "marks": state.marks, "undo": len(session.before),
        "redo": len(session.after), "command": render_command(session),
        "python": render_python(session),
        "told": session.told, "bar": _bar(session), "placed": session.base.placed,
    })  # fmt: skip


def _layer(session: Session, number: int) -> dict[str, Any]:
    opened, shown = session.opened[number], session.state.layers[number]
    source = opened.source
    bands = [] if source is None else [
        {"name": band.name, "role": band.role, "wavelength": band.wavelength, "unit": band.unit}
        for band in source.bands
    ]  # fmt: skip
    return {
        "title": opened.layer.title, "file": opened.file, "bands": bands,
        "look": None if source is None else shown.look.to_dict(), "opacity": shown.opacity,
        "visible": shown.visible, "mode": shown.mode, "threshold": shown.threshold,
    }  # fmt: skip


def _bar(session: Session) -> dict[str, Any] | None:
    """Return a scale bar for the view: its length in picture pixels, and what it says."""
    try:
        ground = ground_at(session.base, *session.state.center)
    except GridMismatch:
        return None
    metres = session.state.pixel * ground.across
    length = round_length(160 * metres)
    return {"length": length / metres, "text": length_text(length, small=ground.unit == "mm")}


def frame_facts(frame: ViewFrame) -> dict[str, Any]:
    """Return what a picture is: between which numbers each layer is drawn, and its warnings."""
    layers = []
    for one in frame.planned:
        scales = () if one is None else one.plan.scales
        names = () if one is None else one.plan.channels
        layers.append([
            {"channel": name, "band": scale.band, "low": scale.low, "high": scale.high,
             "unit": scale.unit, "rule": scale.limits, "exact": scale.exact}
            for name, scale in zip(names, scales, strict=False)
        ])  # fmt: skip
    return facts({"layers": layers, "warnings": frame.warnings})


def view_counts(session: Session, drawer: Drawer) -> dict[str, Any]:
    """Return counts of the values in view of the active layer, per channel, and what is cut off."""
    frame = drawer.frame(session)
    place = session.state.order.index(session.state.active)
    planned = frame.planned[place]
    if planned is None or not planned.plan.shadings:
        return {"channels": []}
    pixels = drawer.pixels(planned, frame.grid)
    shown = pixels.shown
    found = []
    for index, shading in enumerate(planned.plan.shadings[:3]):
        values = physical(pixels.values[index][shown], shading.band, np.float64)
        values = values[np.isfinite(values)]
        found.append(_counted(values, shading.scale, planned.plan.channels[index]))
    return facts({"channels": found, "shown": float(shown.mean())})


def _counted(values: Any, scale: Any, channel: str) -> dict[str, Any]:
    low, high = min(scale.low, scale.high), max(scale.low, scale.high)
    ends = np.percentile(values, (0.1, 99.9)) if values.size else np.array([low, high])
    start, stop = min(low, float(ends[0])), max(high, float(ends[1]))
    rim = 0.05 * ((stop - start) or 1.0)
    counts, edges = np.histogram(values, _BINS, (start - rim, stop + rim))
    total = max(1, values.size)
    return {
        "channel": channel, "band": scale.band, "unit": scale.unit, "low": scale.low,
        "high": scale.high, "counts": counts.tolist(), "start": edges[0], "stop": edges[-1],
        "below": float((values < low).sum() / total), "above": float((values > high).sum() / total),
    }  # fmt: skip


def values_at(session: Session, column: float, row: float) -> dict[str, Any]:
    """Return what stands under a position of the picture: of every raster every band, from full
    resolution, and where that is.
    """
    x, y = session.at(column, row)
    base = session.base
    found: dict[str, Any] = {"x": x, "y": y}
    r, c = base.locate(x=x, y=y)
    found |= {"row": r, "column": c}
    if base.crs_text is not None and base.placed:
        try:
            lon, lat = way_between(base.crs_text, LONLAT).transform(x, y)
            found |= {"lon": lon, "lat": lat}
        except GridMismatch:
            pass
    layers = [one for one in session.layers() if hasattr(one, "source") and one.visible]
    try:
        rows = probed(layers, x=x, y=y) if layers and base.placed else (
            probed(layers, row=r, column=c) if layers else [])  # fmt: skip
    except GridMismatch as error:
        return facts(found | {"rows": [], "outside": str(error)})
    return facts(found | {"rows": [{**one, "why": _why(one)} for one in rows]})


def spectra_of(session: Session) -> dict[str, Any]:
    """Return what stands under each mark in every band of the active layer, with wavelengths."""
    layer = session.layers()[session.state.order.index(session.state.active)]
    if not isinstance(layer, Layer):
        return {"marks": []}
    bands = source_of(layer.source).bands
    found: list[list[float | None]] = []
    for x, y in session.state.marks:
        try:
            rows = probed([layer], x=x, y=y)
        except GridMismatch:
            rows = []
        found.append([row["physical"] for row in rows if row["band"] is not None])
    return facts({"marks": found, "bands": [band.name for band in bands],
                  "wavelengths": [band.wavelength for band in bands]})  # fmt: skip


def _why(row: dict[str, Any]) -> str | None:
    """Say why a value is none."""
    if row["physical"] is not None or row["band"] is None:
        return None
    stored = row["stored"]
    return "NaN" if isinstance(stored, float) and math.isnan(stored) else "no-data"


def numbers_in(session: Session) -> dict[str, Any]:
    """Return the stored numbers of the pixels in view of the active layer's first channel, with
    where each pixel's middle lies in the picture; none where too many are in view.
    """
    number = session.state.active
    source = session.opened[number].source
    layer = session.layers()[session.state.order.index(number)]
    if source is None or not isinstance(layer, Layer):
        return {"numbers": []}
    planned = PlannedLayer.of(layer, None)
    own = planned.source.grid
    rows, columns = session.size
    corners = [session.at(c, r) for c in (0, columns) for r in (0, rows)]
    if own.crs_text != session.base.crs_text:
        return {"numbers": []}
    c, r = own.from_map(np.array([x for x, _ in corners]), np.array([y for _, y in corners]))
    spans = [(max(0, int(np.floor(v.min()))), min(length, int(np.ceil(v.max()))))
             for v, length in ((r, own.rows), (c, own.columns))]  # fmt: skip
    if any(a >= b for a, b in spans) or math.prod(b - a for a, b in spans) > _MOST_NUMBERS:
        return {"numbers": []}
    pixels = planned.plan.ready(planned.source).read(
        planned.plan.bands[:1], (spans[0], spans[1]))  # fmt: skip
    x0, y0 = session.at(0, 0)
    up = 1 if session.base.y_up else -1
    found = []
    for i, row in enumerate(range(*spans[0])):
        for j, column in enumerate(range(*spans[1])):
            x, y = own.center(row=row, column=column)
            valid = bool(pixels.validity[0, i, j])
            found.append([(x - x0) / session.state.pixel, (y0 - y) * up / session.state.pixel,
                          pixels.values[0, i, j].item() if valid else None])  # fmt: skip
    return facts({"numbers": found})
