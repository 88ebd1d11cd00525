"""Numbers out of a source, as people ask for them: masked arrays, stored or physical."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

import numpy as np

from spectrane.model.band import BandName, find_bands
from spectrane.model.errors import LookError
from spectrane.model.grid import Bounds
from spectrane.model.physical import as_stored, value_dtype
from spectrane.model.physical import physical as to_physical
from spectrane.model.resampling import check_unmixed
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import Window
from spectrane.spatial.rolled import seen


def pixels(
    source: Source,
    bands: BandName | Iterable[BandName] | None = None,
    *,
    rows: tuple[int, int] | None = None,
    columns: tuple[int, int] | None = None,
    bounds: Bounds | None = None,
    size: tuple[int, int] | None = None,
    resample: str = "nearest",
    physical: bool = False,
    force: bool = False,
) -> np.ma.MaskedArray[Any, Any]:
    """Return a masked array (bands, rows, columns), invalid pixels masked.

    ``bands`` are numbers from 1, names or roles; ``rows`` and ``columns`` half-open pairs from
    0; ``bounds`` in map units, snapped outward to whole pixels; ``size`` (rows, columns) by
    ``resample``, whose mixing kernels take names of classes and flags only with ``force``. Numbers
    are as stored and in the stored type (interpolated integers rounded half up); with
    ``physical``, stored * scale + offset in the band's unit, float32 or float64.

    Raises BandError, GridMismatch where the area lies outside, ResourceError where the answer
    would not fit in memory.
    """
    check_unmixed(source.mixable or size is None, resample, force)
    indices = find_bands(source.bands, bands)
    source, window = asked(source, rows=rows, columns=columns, bounds=bounds)
    answer = source.read(indices, window, size, resample)
    mask = ~answer.validity
    values = answer.values
    if physical:
        wide = value_dtype(source.dtype)
        each = [
            to_physical(band, source.bands[index], wide)
            for index, band in zip(indices, values, strict=True)
        ]
        return np.ma.MaskedArray(np.stack(each), mask)
    if values.dtype != source.stored_type:
        values = as_stored(np.where(mask, 0, values), source.stored_type)
    elif values.base is not None:
        values = values.copy()  # what is handed out belongs to the caller
    return np.ma.MaskedArray(values, mask)


def asked(
    source: Source,
    *,
    rows: tuple[int, int] | None = None,
    columns: tuple[int, int] | None = None,
    bounds: Bounds | None = None,
) -> tuple[Source, Window]:
    """Return the window of rows and columns, or of bounds; all of the raster for neither.

    The source is rolled where bounds run over the edge of one that goes round the globe.
    """
    if bounds is not None and (rows is not None or columns is not None):
        raise LookError("give bounds, or rows and columns; not both")
    if bounds is not None:
        return seen(source, View(bounds=bounds))
    view = View(rows=rows, columns=columns)
    shape = source.shape
    window = (view.rows or (0, shape[0]), view.columns or (0, shape[1]))
    view.window(source.grid)  # raises where it misses altogether, or is the wrong way round
    return source, source.checked(window)
