"""What stands under a point: stored number, physical value, shown level and colour."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.display.channels import shown_bands
from spectrane.display.render import classes_shown, render, shadings_of
from spectrane.model.look import Look
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import whole
from spectrane.spatial.regions import Place, point_places


def _places(
    source: Source, *, x: float | None = None, y: float | None = None, row: int | None = None,
    column: int | None = None, points: Any = None, crs: str | None = None,
) -> list[Place]:  # fmt: skip
    """Return where points lie in a raster: one by map position or pixel, or many."""
    if points is not None:
        return point_places(source, points, crs)
    given = {"x": x, "y": y, "row": row, "column": column}
    return point_places(source, [{k: v for k, v in given.items() if v is not None}], crs)


def probed(layers: Sequence[tuple[str, Source, Look | None]], **where: Any) -> list[dict[str, Any]]:
    """Return a row per point, layer and band.

    Positions are those of the first layer; a layer that a point misses has no row for it.

    Columns: ``point layer row column band stored physical unit level color shown``; ``level`` is
    0…255 or the entry of the colour map, ``color`` the pixel as it is drawn, both only for bands
    that are shown; ``shown`` is False for what is invalid.
    """
    first = layers[0][1]
    asked = _places(first, **where)
    found = []
    for place in asked:
        for name, source, given in layers:
            own = place if source is first else _same_place(first, source, place)
            if own is not None:
                found += _rows(name, source, given or source.look or Look(), own)
    return found


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


def _rows(layer: str, source: Source, look: Look, place: Place) -> list[dict[str, Any]]:
    name, row, column = place
    window = ((row, row + 1), (column, column + 1))
    everything = range(len(source.bands))
    pixels = source.read(everything, window)
    valid = np.broadcast_to(pixels.valid, pixels.values.shape)[:, 0, 0]
    bands = shown_bands(source, look)
    levels = _levels(source, look, bands, pixels.values)
    color = _color(source, look, window)
    rows = []
    for index in everything:
        band, stored = source.bands[index], pixels.values[index, 0, 0].item()
        physical = stored * band.scale + band.offset if valid[index] else None
        shown = index in bands
        rows.append({
            "point": name, "layer": layer, "row": row, "column": column, "band": band.name,
            "stored": stored, "physical": physical, "unit": band.unit,
            "level": levels.get(index) if shown and valid[index] else None,
            "color": color if shown else None, "shown": bool(shown and valid[index]),
        })  # fmt: skip
    return rows


def _levels(source: Source, look: Look, bands: Sequence[int], values: Any) -> dict[int, int]:
    """Return the level, or the colour map's entry, of each shown band, by the display's tables."""
    if classes_shown(source, look, bands).classes:
        return {}
    shadings = shadings_of(source, look, list(bands), whole(source.shape))
    found = {}
    for shading, index in zip(shadings, bands, strict=True):
        code = int(shading.codes(values[index])[0, 0])
        ends = shading.palette is not None and shading.palette.ends
        found[index] = code - ends
    return found


def _color(source: Source, look: Look, window: Any) -> str:
    """Return the pixel as it is drawn: ``#rrggbb``, or ``#rrggbbaa`` where it is not opaque."""
    import warnings

    (row, _), (column, _) = window
    near = 64 if look.adjusted else 0  # what is adjusted depends on its neighbours
    rows = (max(0, row - near), min(source.shape[0], row + near + 1))
    columns = (max(0, column - near), min(source.shape[1], column + near + 1))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        picture = render(source, look, view=View(rows=rows, columns=columns))
    flips = source.grid.flips()
    r, c = row - rows[0], column - columns[0]
    r = rows[1] - rows[0] - 1 - r if flips[0] else r
    c = columns[1] - columns[0] - 1 - c if flips[1] else c
    pixel = picture.rgba[r, c].tolist()
    return "#" + bytes(pixel if pixel[3] < 255 else pixel[:3]).hex()
