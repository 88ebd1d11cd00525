"""What stands under the pointer, under marks and within outlines, and in large pixels."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from spectrane.analysis.histogram import band_histogram
from spectrane.analysis.profiles import zone_rows
from spectrane.analysis.spectra import Spectra
from spectrane.display.layers import Layer, PlannedLayer, common_grid
from spectrane.display.probing import probed
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.source import flat_source_of, source_of
from spectrane.model.systems import LONLAT, way_between
from spectrane.spatial.regions import region_of
from spectrane.spatial.shapes import Shapes, shapes_of
from spectrane.viewing.session import Session

_MOST_NUMBERS = 2500
_BINS = 80


def values_at(session: Session, column: float, row: float) -> dict[str, Any]:
    """Return what stands under a position of the panels: of every raster that one of them shows
    every band, from full resolution, and where that is. The active panel comes first.
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
    rows = rows_at(session, _seen(session), x, y)
    return found | {"rows": [{**one, "why": _why(one)} for one in rows if one["band"] is not None]}


def _seen(session: Session) -> list[Layer]:
    """Return the rasters that are seen, each as the first panel shows it that does."""
    state = session.state
    panels = [state.panel, *(k for k in range(len(state.panels)) if k != state.panel)]
    seen: dict[int, Layer] = {}
    for panel in panels:
        for number, layer in zip(state.order, session.layers(panel), strict=True):
            if isinstance(layer, Layer) and layer.visible:
                seen.setdefault(number, layer)
    return list(seen.values())


def rows_at(session: Session, layers: Sequence[Layer], x: float, y: float) -> list[dict[str, Any]]:
    """Return what each layer has at a position on the session's map: see ``probed``.

    Levels are those of the picture, whose limits may be found from the view. A layer that lies
    elsewhere has no rows.
    """
    base = session.base
    grid = common_grid(base, session.view(), None)
    rows: list[dict[str, Any]] = []
    for layer in layers:
        where: dict[str, Any] = {"x": x, "y": y, "crs": base.crs_text}
        if not base.placed:
            row, column = base.locate(x=x, y=y)
            where = {"row": row, "column": column}
        try:
            plan = PlannedLayer.of(layer, grid).plan
            rows += probed([PlannedLayer(layer, flat_source_of(layer.hidden()), plan)], **where)
        except GridMismatch:
            continue
    return rows


def _why(row: dict[str, Any]) -> str | None:
    """Say why a value is none: it is declared as no-data, is NaN, or a mask or threshold hides it.

    What a threshold hides has a value all the same.
    """
    if row["band"] is None:
        return None
    stored = row["stored"]
    if row["physical"] is None:
        return "NaN" if isinstance(stored, float) and math.isnan(stored) else "no-data"
    return "masked" if row["color"] is not None and not row["shown"] else None


def spectra_of(session: Session, library: Spectra | None = None) -> dict[str, Any]:
    """Return what stands under each mark in every band of the active layer, with wavelengths, and
    the nearest names of a library with their angles in degrees.
    """
    layer = session.layers()[session.active_place]
    if not isinstance(layer, Layer):
        return {"marks": []}
    bands = source_of(layer.source).bands
    found: list[list[float | None]] = []
    for x, y in session.state.marks:
        rows = rows_at(session, [layer], x, y)
        found.append([row["physical"] for row in rows if row["band"] is not None])
    return {"marks": found, "bands": [band.name for band in bands],
            "wavelengths": [band.nominal_wavelength for band in bands],
            "times": [band.time for band in bands],
            "nearest": [_nearest(library, values, len(bands)) for values in found]}  # fmt: skip


def _nearest(
    library: Spectra | None, values: list[float | None], bands: int
) -> list[tuple[str, float]]:
    if library is None or not values or len(library.wavelengths) != bands:
        return []
    given = [float("nan") if value is None else value for value in values]
    ranked = [(name, math.degrees(angle)) for name, angle in library.ranked(given)]
    return [one for one in ranked if not math.isnan(one[1])][:3]


def outline_shapes(session: Session) -> dict[str, Any]:
    """Return the marks and outlines drawn by hand as GeoJSON features on the session's map."""
    features: list[dict[str, Any]] = []
    for number, at in enumerate(session.state.marks, 1):
        features.append(_feature(f"mark {number}", "Point", list(at)))
    for number, ring in enumerate(session.state.outlines, 1):
        closed = [list(at) for at in (*ring, ring[0])]
        features.append(_feature(f"outline {number}", "Polygon", [closed]))
    return {"type": "FeatureCollection", "features": features}


def _feature(name: str, kind: str, coordinates: Any) -> dict[str, Any]:
    return {"type": "Feature", "properties": {"name": name},
            "geometry": {"type": kind, "coordinates": coordinates}}  # fmt: skip


def outline_rows(session: Session) -> list[dict[str, Any]]:
    """Return statistics of every band of the active raster within each outline: see ``zone_rows``.

    Raises LookError where the active layer is no raster.
    """
    source = session.active_source
    if source is None:
        raise LookError("outlines are measured on a raster: choose one among the layers")
    rows: list[dict[str, Any]] = []
    for number, ring in enumerate(session.state.outlines, 1):
        try:
            masked, window = region_of(source, _region(session, ring))
        except GridMismatch as error:
            rows.append({"zone": f"outline {number}", "note": str(error)})
            continue
        rows += zone_rows(masked, f"outline {number}", window)
    return rows


def _region(session: Session, ring: tuple[tuple[float, float], ...]) -> Shapes:
    closed = [list(at) for at in (*ring, ring[0])]
    shapes = shapes_of({"type": "Polygon", "coordinates": [closed]}, crs=session.base.crs_text)
    return replace(shapes, crs=session.base.crs_text, assumed=False)


def outlines_of(session: Session) -> dict[str, Any]:
    """Return what lies within each outline: statistics, and counts of the last one's values."""
    rows = outline_rows(session)
    source = session.active_source
    counts = None
    if rows and "count" in rows[-1] and rows[-1]["count"] and source is not None:
        masked, window = region_of(source, _region(session, session.state.outlines[-1]))
        shown = PlannedLayer.of(_layer(session), None).plan.bands[:1]
        counted = band_histogram(masked, list(shown), window, bins=_BINS)
        counts = {"band": source.bands[shown[0]].name, "counts": counted.counts[0].tolist(),
                  "start": counted.edges[0][0], "stop": counted.edges[0][-1]}  # fmt: skip
    return {"rows": rows, "counts": counts}


def _layer(session: Session) -> Layer:
    layer = session.layers()[session.active_place]
    assert isinstance(layer, Layer)
    return layer


def numbers_in(session: Session) -> dict[str, Any]:
    """Return the stored numbers of the pixels in view of the active layer's first channel, with
    where each pixel's middle lies in the picture; none where too many are in view.
    """
    if session.active_source is None:
        return {"numbers": []}
    planned = PlannedLayer.of(_layer(session), None)
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
    return {"numbers": found}
