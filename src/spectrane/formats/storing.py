"""What writers share: which number stands for no-data, and putting it in."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import FormatError
from spectrane.model.source import Source


def single_fill(source: Source, dtype: np.dtype[Any]) -> Any:
    """Return the one number that may stand for no-data in all bands, or None.

    NaN for floats; for integers the bands' no-data value where they agree on a single one.
    """
    if dtype.kind == "f":
        return np.nan
    values = {repr(band.nodata): band.nodata for band in source.bands}
    found = [band.rule.matching(source.dtype) for band in source.bands]
    if len(values) == 1 and found[0]:
        return found[0][0].item()
    return None


def filled(values: NDArray[Any], valid: NDArray[np.bool_], fills: Sequence[Any]) -> NDArray[Any]:
    """Return values (bands, rows, columns) with each band's fill where it is invalid.

    One fill serves all bands; None leaves a band as it is.
    """
    if valid.size == 1 or valid.all():
        return values
    shown = np.broadcast_to(valid, values.shape)
    out = values.copy()
    for band in range(len(values)):
        fill = fills[min(band, len(fills) - 1)]
        if fill is not None:
            out[band][~shown[band]] = fill
    return out


def picture_planes(
    source: Source, name: str, types: Sequence[Any]
) -> tuple[NDArray[Any], NDArray[Any] | None]:
    """Return all pixels of a source that a picture format can hold, and alpha where it is needed.

    Raises FormatError for a type or a number of bands that such formats have no place for.
    """
    kept = [np.dtype(one).name for one in types]
    if source.dtype.name not in kept:
        raise FormatError(
            f"{name} holds {' or '.join(kept)}, not {source.dtype}; say dtype={kept[0]!r} and "
            "how to rescale (--type, --rescale)"
        )
    if len(source.bands) not in (1, 3):
        raise FormatError(
            f"{name} holds 1 or 3 bands, not {len(source.bands)}; choose them (--bands)"
        )
    pixels = source.read(range(len(source.bands)), tuple((0, n) for n in source.shape))
    alpha = pixels.alpha
    shown = np.broadcast_to(pixels.valid.all(axis=0), source.shape)
    if alpha is None and not shown.all():
        alpha = np.where(shown, np.iinfo(source.dtype).max, 0).astype(source.dtype)
    return pixels.values, alpha
