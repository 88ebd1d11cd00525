"""Areas of pixels as polygons, exact along the pixels' edges, with their holes."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import LookError, nearest
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.window import whole
from spectrane.spatial.shapes import system_member

Ints = NDArray[np.int64]
_LISTED = 12
_MOST_VALUES = 4096
"""A raster of more values than this is no map of classes."""


def traced(areas: Ints, count: int) -> list[list[Ints]]:
    """Return for each area its rings as (n, 2) columns and rows of corners, the outer one first.

    ``areas`` is (rows, columns), 0 for none and 1...count for areas whose pixels hang together by
    their sides. Rings run with the area at their right, rows counted down, and are not closed.

    >>> [ring.tolist() for ring in traced(np.array([[0, 1], [0, 1]]), 1)[0]]
    [[[2, 0], [2, 2], [1, 2], [1, 0]]]
    """
    start, end, owner, way = _edges(areas)
    rings: list[list[Ints]] = [[] for _ in range(count)]
    if not len(start):
        return rings
    following = _following(start, end, owner, way, (areas.shape[0] + 1) * (areas.shape[1] + 1))
    turns = np.flatnonzero(way[following] != way)  # the last edges of straight runs
    place = np.searchsorted(turns, following[turns])
    backward = way[following[turns]] >= 2  # those runs lie in the arrays the other way round
    place -= backward & (turns[np.minimum(place, len(turns) - 1)] != following[turns])
    after, seen = place.tolist(), [False] * len(turns)
    walked: list[int] = []
    begins = [0]
    for first in range(len(turns)):
        at = first
        while not seen[at]:
            seen[at] = True
            walked.append(at)
            at = after[at]
        if len(walked) > begins[-1]:
            begins.append(len(walked))
    edges = turns[walked]
    wide = areas.shape[1] + 1
    points = np.stack([end[edges] % wide, end[edges] // wide], axis=1)
    owners = owner[edges[begins[:-1]]].tolist()
    for number, low, high in zip(owners, begins, begins[1:], strict=False):
        rings[number - 1].append(points[low:high])  # the topmost comes first: the outer one
    return rings


def _edges(areas: Ints) -> tuple[Ints, Ints, Ints, Ints]:
    """Return the sides of areas: from and to which corner, of which area, and which way they run
    (0 right, 1 down, 2 left, 3 up). Those of a straight run lie beside one another.
    """
    rows, columns = areas.shape
    wide = columns + 1
    around = np.zeros((rows + 2, columns + 2), np.int64)
    around[1:-1, 1:-1] = areas
    found = []
    for way, (down, right), (begin, finish) in (
        (0, (-1, 0), (0, 1)), (1, (0, 1), (1, wide + 1)),
        (2, (1, 0), (wide + 1, wide)), (3, (0, -1), (wide, 0)),
    ):  # fmt: skip
        beside = around[1 + down : rows + 1 + down, 1 + right : columns + 1 + right]
        there = (areas > 0) & (areas != beside)
        r, c = np.nonzero(there) if way % 2 == 0 else np.nonzero(there.T)[::-1]
        corner = r * wide + c
        found.append((corner + begin, corner + finish, areas[r, c], np.full(len(r), way)))
    start, end, owner, ways = (np.concatenate(one) for one in zip(*found, strict=True))
    return start, end, owner, ways


def _following(start: Ints, end: Ints, owner: Ints, way: Ints, corners: int) -> Ints:
    """Return the edge that follows each; where an area touches itself at a corner the ring turns
    left, so that no ring passes a corner twice.
    """
    key = owner * corners + start
    order = np.argsort(key, kind="stable")
    ordered = key[order]
    at = np.searchsorted(ordered, owner * corners + end)
    first = order[at]
    second = order[np.minimum(at + 1, len(order) - 1)]
    two = (at + 1 < len(order)) & (key[second] == key[first])
    left = two & (way[second] == (way - 1) % 4)
    return np.where(left, second, first)


def class_polygons(
    source: Source, band: int, values: Sequence[float] | None = None
) -> dict[str, Any]:  # fmt: skip
    """Return the areas of a band's values as GeoJSON, in the raster's own coordinates.

    A feature for each area whose pixels hang together by their sides, with ``value``, the class's
    ``name`` where it has one, and ``pixels``. Without ``values`` all that occur. Raises LookError
    for a band of measures; values that no pixel has are told with a warning.
    """
    from scipy.ndimage import label

    pixels = source.read([band], whole(source.shape))
    stored, valid = pixels.values[0], pixels.validity[0]
    if values is None:
        values = _occurring(source, stored[valid])
    classes = source.look.classes if source.look is not None else {}
    features: list[dict[str, Any]] = []
    for value in values:
        areas, count = label(valid & (stored == value))
        sizes = np.bincount(areas.ravel(), minlength=count + 1)
        name = classes[value][1] if value in classes else ""
        for number, rings in enumerate(traced(areas.astype(np.int64), count), 1):
            said = {"value": value, **({"name": name} if name else {}),
                    "pixels": int(sizes[number])}  # fmt: skip
            features.append({"type": "Feature", "properties": said,
                             "geometry": source.grid.polygon(rings)})  # fmt: skip
    _tell_absent(source, stored[valid], values, {one["properties"]["value"] for one in features})
    return {
        "type": "FeatureCollection",
        **system_member(source.grid.crs_text),
        "features": features,
    }


def _tell_absent(
    source: Source, stored: NDArray[Any], values: Sequence[float], seen: set[float]
) -> None:
    absent = [value for value in values if value not in seen]
    if seen and not absent:
        return
    if source.dtype.kind == "b" or not stored.size:
        chosen = "chosen" if source.dtype.kind == "b" else "valid"
        warn_caller(f"no pixel is {chosen}: there are no areas")
        return
    found = np.unique(stored)
    listed = ", ".join(f"{value:g}" for value in found[:_LISTED].tolist())
    more = f" and {len(found) - _LISTED} more" if len(found) > _LISTED else ""
    one = "class" if len(absent) == 1 else "classes"
    warn_caller(f"no pixel is of {one} {', '.join(f'{value:g}' for value in absent)}; "
                f"what occurs is {listed}{more}")  # fmt: skip


def _occurring(source: Source, stored: NDArray[Any]) -> list[float]:
    found = np.unique(stored)
    if source.dtype.kind == "b":
        found = found[found]
    if not len(found):
        return []
    if len(found) > _MOST_VALUES or (source.dtype.kind == "f" and not source.categories):
        raise LookError(f"to_polygons: {len(found)} values occur, which are no classes; name some, "
                        "or say which are meant: sp.mask(raster, range=…), --where")  # fmt: skip
    return [value.item() for value in found]


def class_values(source: Source, classes: Sequence[float | str]) -> list[float]:
    """Return the stored numbers of classes. Raises LookError for a name there is not."""
    given = [classes] if isinstance(classes, str | int | float) else list(classes)
    known = source.look.classes if source.look is not None else {}
    named = {text: value for value, (_, text) in known.items() if text}
    found = []
    for one in given:
        if isinstance(one, str) and one not in named:
            raise LookError(f"no class {one!r}{nearest(one, named)}")
        found.append(named[one] if isinstance(one, str) else one)
    return found
