"""Where a raster holds valid pixels, in longitude and latitude, by a coarse look."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.catalogs.areas import footprint, on_earth
from spectrane.model.source import Source
from spectrane.model.window import whole

_COARSE = 128
"""Pixels along the longer side at which validity is looked at."""
_SMOOTH = 1.0
"""Coarse pixels by which the outline of what is valid may be off."""


def valid_parts(source: Source) -> list[Any] | None:
    """Return polygons in longitude and latitude of where a raster has valid pixels, to about a
    hundredth of its side; None where that is all of it, the whole grid's where it is nowhere.
    """
    longest = max(source.shape)
    size = tuple(max(1, round(side * min(1.0, _COARSE / longest))) for side in source.shape)
    kept = source.read([0], whole(source.shape), size, "nearest").validity[0]
    if kept.all():
        return None
    return [on_earth(source.grid, part, size) for part in _outlines(kept)] if kept.any() else (
        footprint(source.grid))  # fmt: skip


def _outlines(kept: NDArray[np.bool_]) -> list[Any]:
    """Return polygons around the pixels that are kept, in columns and rows."""
    import shapely

    boxes = []
    for row, line in enumerate(kept):
        edges = np.flatnonzero(np.diff(np.concatenate([[0], line.astype(np.int8), [0]])))
        boxes += [shapely.box(start, row, stop, row + 1)
                  for start, stop in zip(edges[::2], edges[1::2], strict=True)]  # fmt: skip
    joined = shapely.union_all(boxes)
    fine = shapely.simplify(joined, _SMOOTH)
    shape = joined if fine.is_empty else fine
    return [one for one in getattr(shape, "geoms", [shape]) if one.area > 0]
