"""Plain arrays for the array world: what is invalid is NaN, or a number that the caller names."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import ArgumentError


def plain_array(found: np.ma.MaskedArray[Any, Any], fill: Any, what: str) -> NDArray[Any]:
    """Return the numbers of a masked array, ``fill`` (None: NaN) where it is masked.

    Raises ArgumentError for invalid integers without a fill, and for a fill that the type cannot
    hold.

    >>> plain_array(np.ma.masked_equal([1.0, 2.0], 2.0), None, "raster").tolist()
    [1.0, nan]
    """
    mask = np.ma.getmaskarray(found)
    values: NDArray[Any] = np.asarray(found.data)
    if not mask.any():
        return values
    if fill is None:
        if values.dtype.kind != "f":
            raise ArgumentError(
                f"{int(mask.sum())} of {mask.size} numbers are invalid, and {values.dtype} has no "
                f"NaN to say so; take {what}.to_numpy(fill=VALUE), or a masked array: "
                f"{what}.{'pixels' if what == 'raster' else 'voxels'}()"
            )
        fill = np.nan
    with np.errstate(invalid="ignore"):
        held = np.array(fill).astype(values.dtype)
    if not (held == fill or (held != held and fill != fill)):
        raise ArgumentError(f"fill {fill!r}: {values.dtype} cannot hold it")
    out = values.copy()
    out[mask] = held
    return out


def as_asked(values: NDArray[Any], dtype: Any, copy: bool | None, what: str) -> NDArray[Any]:
    """Return numbers as NumPy's ``__array__`` protocol asks for them.

    Raises ValueError for ``copy=False``: numbers that are read are always new ones.
    """
    if copy is False:
        raise ValueError(f"copy=False: the numbers of a {what} are read, and so always new ones")
    return values if dtype is None else values.astype(dtype)
