"""A plain FITS maker for tests: it shares no code with the library."""

from __future__ import annotations

import numpy as np

BITS = {"u1": 8, "i2": 16, "i4": 32, "i8": 64, "f4": -32, "f8": -64}


def line(keyword, value):
    if isinstance(value, bool):
        return f"{keyword:<8}= {'T' if value else 'F':>20}".ljust(80)
    if isinstance(value, str):
        return f"{keyword:<8}= '{value:<8}'".ljust(80)
    return f"{keyword:<8}= {value!r:>20}".ljust(80)


def header(*lines):
    text = "".join([*lines, "END".ljust(80)])
    return text.ljust(-(-len(text) // 2880) * 2880).encode("ascii")


def data(raw):
    return raw + b"\0" * (-len(raw) % 2880)


def image(array, *, first=True, extra=(), kind=None):
    """Return one unit: ``extra`` are (keyword, value) pairs or whole lines."""
    code = kind or array.dtype.str[1:]
    lines = [line("SIMPLE", True) if first else line("XTENSION", "IMAGE")]
    lines += [line("BITPIX", BITS[code]), line("NAXIS", array.ndim)]
    lines += [line(f"NAXIS{k}", n) for k, n in enumerate(reversed(array.shape), 1)]
    if not first:
        lines += [line("PCOUNT", 0), line("GCOUNT", 1)]
    lines += [one.ljust(80) if isinstance(one, str) else line(*one) for one in extra]
    return header(*lines) + data(array.astype(">" + code).tobytes())


def empty():
    """Return a primary unit without an image."""
    return header(line("SIMPLE", True), line("BITPIX", 8), line("NAXIS", 0))


def table(cells, shape, bits, *, columns=(), tile=None, extra=()):
    """Return a binary table that holds an image in tiles.

    ``cells`` are the tiles' bytes; ``columns`` are (name, form, values as big-endian bytes per
    row) besides COMPRESSED_DATA.
    """
    width = 8 + sum(len(values[0]) for _, _, values in columns)
    rows, heap = [], b""
    for number, cell in enumerate(cells):
        row = np.array([len(cell), len(heap)], ">i4").tobytes()
        row += b"".join(values[number] for _, _, values in columns)
        rows.append(row)
        heap += cell
    lines = [line("XTENSION", "BINTABLE"), line("BITPIX", 8), line("NAXIS", 2)]
    lines += [line("NAXIS1", width), line("NAXIS2", len(cells)), line("PCOUNT", len(heap))]
    lines += [line("GCOUNT", 1), line("TFIELDS", 1 + len(columns))]
    lines += [line("TTYPE1", "COMPRESSED_DATA"), line("TFORM1", "1PB(999)")]
    for k, (name, form, _) in enumerate(columns, 2):
        lines += [line(f"TTYPE{k}", name), line(f"TFORM{k}", form)]
    lines += [line("ZIMAGE", True), line("ZBITPIX", bits), line("ZNAXIS", len(shape))]
    lines += [line(f"ZNAXIS{k}", n) for k, n in enumerate(reversed(shape), 1)]
    if tile:
        lines += [line(f"ZTILE{k}", n) for k, n in enumerate(reversed(tile), 1)]
    lines += [line(*one) for one in extra]
    return header(*lines) + data(b"".join(rows) + heap)
