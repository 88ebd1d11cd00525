"""Writing FITS: one primary image, bands as the third axis."""

from __future__ import annotations

import os
import warnings
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.fits.header import BLOCK, card, header_bytes
from spectrane.formats.storing import filled, single_fill
from spectrane.model.errors import DataWarning
from spectrane.model.source import Source
from spectrane.model.whole_files import written_whole

_ROWS_BYTES = 8 << 20


def write_fits(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as a FITS image, row by row in bounded memory.

    Unsigned integers are kept exactly by the BZERO convention (section 5.2.5), invalid integers
    as BLANK, invalid floats as NaN. A placed raster is written upright: its lowest row first, as
    FITS has it. What FITS cannot hold (coordinate system, classes, float16) is warned of.
    """
    dtype, offset = stored_type(source.dtype)
    fill = single_fill(source, dtype)
    flip = source.grid.placed and source.grid.affine[1][1] < 0
    _tell_loss(source)
    with written_whole(target, overwrite=overwrite) as file:
        head = header_bytes(_cards(source, dtype, offset, fill))
        file.write(head)
        rows, columns = source.shape
        step = max(1, _ROWS_BYTES // (columns * 8))
        for number, band in enumerate(range(len(source.bands))):
            for top in range(0, rows, step):
                part = _rows(source, band, (top, min(top + step, rows)), flip)
                values = part.values
                plain = filled(values, part.valid, [fill])[0]
                file.write(_big_endian(plain[::-1] if flip else plain, dtype, offset))
                progress(number * rows + min(top + step, rows), rows * len(source.bands))
        file.write(b"\0" * (-file.tell() % BLOCK))


def _rows(source: Source, band: int, rows: tuple[int, int], flip: bool) -> Any:
    total = source.shape[0]
    wanted = (total - rows[1], total - rows[0]) if flip else rows
    return source.read([band], (wanted, (0, source.shape[1])))


def stored_type(dtype: np.dtype[Any]) -> tuple[np.dtype[Any], int]:
    """Return the type FITS keeps a type as, and BZERO.

    >>> stored_type(np.dtype("uint16"))
    (dtype('int16'), 32768)
    """
    if dtype.kind == "f":
        return np.dtype(np.float64 if dtype.itemsize == 8 else np.float32), 0
    if dtype.kind == "b" or dtype == np.uint8:
        return np.dtype(np.uint8), 0
    if dtype == np.int8:
        return np.dtype(np.uint8), -128
    if dtype.kind == "u":
        return np.dtype(f"i{dtype.itemsize}"), 1 << (8 * dtype.itemsize - 1)
    return dtype, 0


def _big_endian(values: NDArray[Any], dtype: np.dtype[Any], offset: int) -> bytes:
    if offset:
        size = values.dtype.itemsize
        bits = np.ascontiguousarray(values).view(f"u{size}")
        values = (bits ^ bits.dtype.type(1 << (8 * size - 1))).view(dtype)
    return values.astype(dtype.newbyteorder(">")).tobytes()


def _cards(source: Source, dtype: np.dtype[Any], offset: int, fill: Any) -> list[str]:
    bands = source.bands
    bits = (-8 if dtype.kind == "f" else 8) * dtype.itemsize
    lengths = [source.shape[1], source.shape[0]] + ([len(bands)] if len(bands) > 1 else [])
    lines = card("SIMPLE", True, "FITS 4.0") + card("BITPIX", bits) + card("NAXIS", len(lengths))
    for n, length in enumerate(lengths, 1):
        lines += card(f"NAXIS{n}", length)
    same = len({(b.scale, b.offset, b.unit) for b in bands}) == 1
    if offset:
        lines += card("BSCALE", 1.0) + card("BZERO", float(offset), "unsigned by convention")
    elif same and bands[0].scaled:
        lines += card("BSCALE", bands[0].scale) + card("BZERO", bands[0].offset)
    if dtype.kind != "f" and fill is not None:
        lines += card("BLANK", int(fill) - offset, "no-data, before BZERO")
    if same and bands[0].unit:
        lines += card("BUNIT", bands[0].unit)
    for n, band in enumerate(bands, 1):
        lines += card(f"BAND{n}", band.name) if n < 10000 else []
    lines += card("CREATOR", "Spectrane")
    for text in source.metadata.get("provenance", ()):
        lines += [f"HISTORY {text}"[:80].ljust(80)]
    return lines


def _tell_loss(source: Source) -> None:
    lost = []
    if source.grid.placed or source.grid.crs_text:
        lost.append("place and coordinate system")
    if len({(b.scale, b.offset, b.unit) for b in source.bands}) > 1:
        lost.append("scale, offset and unit, which differ between bands")
    elif source.bands[0].scaled and source.dtype.kind == "u" and source.dtype.itemsize > 1:
        lost.append("scale and offset of unsigned integers")
    if source.categories:
        lost.append("class names and colours")
    if source.alpha:
        lost.append("alpha")
    if lost:
        warnings.warn(f"FITS does not keep: {'; '.join(lost)}", DataWarning, stacklevel=3)
    if not source.grid.placed and not source.grid.y_up:
        warnings.warn(
            "FITS takes the first row for the lowest: rows are written as they are, so that other "
            "programs show this picture upside down", DataWarning, stacklevel=3,
        )  # fmt: skip
