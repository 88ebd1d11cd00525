"""Writing FITS: one primary image, bands as the third axis."""

from __future__ import annotations

import json
import os
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.described import Described
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.fits.header import BLOCK, WORDS, card, header_bytes, history
from spectrane.formats.keeping import words_without_field
from spectrane.formats.validity import FITS, fill_of, keeping, single_nodata
from spectrane.model.grid import Grid
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
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

    Unsigned integers are kept exactly by the BZERO convention (section 5.2.5), invalid integers as
    BLANK (the bands' no-data, else a number that no valid pixel has), invalid floats as NaN. A
    placed raster is written upright: its lowest row first, as FITS has it. What FITS has no field
    for (place, classes, letters that are not ASCII) is kept in a card of our own, and warned of.
    """
    source = keeping(source, FITS)
    dtype, offset = stored_type(source.dtype)
    flip = source.grid.placed and source.grid.affine[1][1] < 0
    _tell_upside_down(source)
    with written_whole(target, overwrite=overwrite) as file:
        head = header_bytes(_cards(source, dtype, offset, flip))
        file.write(head)
        rows, columns = source.shape
        step = max(1, _ROWS_BYTES // (columns * 8))
        for number, band in enumerate(range(len(source.bands))):
            for top in range(0, rows, step):
                part = _rows(source, band, (top, min(top + step, rows)), flip)
                plain = part.values[0]
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


def _cards(source: Source, dtype: np.dtype[Any], offset: int, flip: bool) -> list[str]:
    bands = source.bands
    bits = (-8 if dtype.kind == "f" else 8) * dtype.itemsize
    lengths = [source.shape[1], source.shape[0]] + ([len(bands)] if len(bands) > 1 else [])
    lines = card("SIMPLE", True, "FITS 4.0") + card("BITPIX", bits) + card("NAXIS", len(lengths))
    for n, length in enumerate(lengths, 1):
        lines += card(f"NAXIS{n}", length)
    held = _held(source, offset)
    if offset:
        lines += card("BSCALE", 1.0) + card("BZERO", float(offset), "unsigned by convention")
    elif "scale" in held and bands[0].scaled:
        lines += card("BSCALE", bands[0].scale) + card("BZERO", bands[0].offset)
    blank = fill_of(bands[0], source.dtype) if single_nodata(bands) is not None else None
    if dtype.kind != "f" and blank is not None:
        lines += card("BLANK", int(blank) - offset, "no-data, before BZERO")
    if "unit" in held and bands[0].unit:
        lines += card("BUNIT", bands[0].unit)
    for n, band in enumerate(bands, 1):
        lines += card(f"BAND{n}", band.name) if n < 10000 else []
    lines += card("CREATOR", "Spectrane")
    upright = Described(source, grid=_upside_down(source.grid)) if flip else source
    words = words_without_field(upright, held, format="FITS", where=f"a card ({WORDS})")
    # As JSON, whose escapes leave nothing but ASCII: a card holds no more (section 4.2.1).
    lines += card(WORDS, json.dumps(words)) if words else []
    for text in source.metadata.get("provenance", ()):
        lines += history(str(text))
    return lines


def _held(source: Source, offset: int) -> set[str]:
    """Return what cards say of the bands: what is the same in all, and can be said in ASCII."""
    bands = source.bands
    held = {"nodata"}
    if len({(band.scale, band.offset) for band in bands}) == 1 and not offset:
        held |= {"scale", "offset"}
    if len({band.unit for band in bands}) == 1 and (bands[0].unit or "").isascii():
        held.add("unit")
    if all(band.name.isascii() and band.name.isprintable() for band in bands):
        held.add("name")
    return held


def _upside_down(grid: Grid) -> Grid:
    """Return the grid of the same pixels, its last row the first."""
    a, b, c, d, e, f = grid.coefficients
    rows = grid.rows
    return replace(grid, affine=((a, -b, c + b * rows), (d, -e, f + e * rows), (0.0, 0.0, 1.0)))


def _tell_upside_down(source: Source) -> None:
    if not source.grid.placed and not source.grid.y_up:
        warn_caller(
            "FITS takes the first row for the lowest: rows are written as they are, so that other "
            "programs show this picture upside down"
        )
