"""A plain FITS maker for tests: it shares no code with the library."""

from __future__ import annotations

import struct

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


def hcompressed(array, scale=1, direct=()):
    """Pack an image (rows, columns) of integers by HCOMPRESS, one pixel after another.

    ``direct`` are bit planes that are written plainly instead of as a tree.
    """
    a = _transformed([[int(v) for v in row] for row in array])
    rows, columns = len(a), len(a[0])
    if scale > 1:
        half = (scale + 1) // 2 - 1
        a = [[int((v + half if v > 0 else v - half) / scale) if v else 0 for v in row] for row in a]
    total, a[0][0] = a[0][0], 0
    down, across = (rows + 1) // 2, (columns + 1) // 2
    parts = [[row[:across] for row in a[:down]], [row[across:] for row in a[:down]],
             [row[:across] for row in a[down:]], [row[across:] for row in a[down:]]]  # fmt: skip
    deep = [max((abs(v).bit_length() for row in part for v in row), default=0) for part in parts]
    planes = [deep[0], max(deep[1], deep[2]), deep[3]]
    bits = "".join(
        _plane(part, plane, plane in direct)
        for part, count in zip(parts, (planes[0], planes[1], planes[1], planes[2]), strict=True)
        if part and part[0]
        for plane in range(count - 1, -1, -1)
    )
    signs = "".join("1" if v < 0 else "0" for row in a for v in row if v)
    head = b"\xdd\x99" + struct.pack(">iiiq3B", rows, columns, scale, total, *planes)
    return head + _bytes_of(bits + "0000") + _bytes_of(signs)


def _bytes_of(bits):
    bits += "0" * (-len(bits) % 8)
    return bytes(int(bits[k : k + 8], 2) for k in range(0, len(bits), 8))


def _transformed(a):
    """H-transform in place of pixels: sums and differences of four, then of those, and so on."""
    rows, columns = len(a), len(a[0])
    tall, broad, mask, shift = rows, columns, -2, 0
    while max(tall, broad) > 1:
        unit, unit2 = -mask, -mask * 2
        found = {}
        for i in range(0, tall, 2):
            for j in range(0, broad, 2):
                more_rows, more_columns = i + 1 < tall, j + 1 < broad
                a00 = a[i][j]
                a01 = a[i][j + 1] if more_columns else 0
                a10 = a[i + 1][j] if more_rows else 0
                a11 = a[i + 1][j + 1] if more_rows and more_columns else 0
                # At an edge the pixels there are count twice, or four times.
                up = (
                    0 if more_rows and more_columns else 2 if not (more_rows or more_columns) else 1
                )
                h0, hx, hy, hc = (
                    (v << up) >> shift
                    for v in (a11 + a10 + a01 + a00, a11 + a10 - a01 - a00, a11 - a10 + a01 - a00,
                              a11 - a10 - a01 + a00)
                )  # fmt: skip
                half, half2 = unit >> 1, unit2 >> 1
                top, left = (tall + 1) // 2, (broad + 1) // 2
                found[i // 2, j // 2] = (h0 + (half2 if h0 >= 0 else half2 - 1)) & -unit2
                if more_rows:
                    found[top + i // 2, j // 2] = (hx + half if hx >= 0 else hx) & -unit
                if more_columns:
                    found[i // 2, left + j // 2] = (hy + half if hy >= 0 else hy) & -unit
                if more_rows and more_columns:
                    found[top + i // 2, left + j // 2] = hc
        for (i, j), value in found.items():
            a[i][j] = value
        tall, broad, mask, shift = (tall + 1) // 2, (broad + 1) // 2, mask * 2, 1
    return a


_CODES = {1: "000", 2: "001", 4: "010", 8: "011", 3: "1000", 5: "1001", 10: "1010", 12: "1011",
          15: "1100", 6: "11010", 7: "11011", 9: "11100", 11: "11101", 13: "11110", 0: "111110",
          14: "111111"}  # fmt: skip


def _plane(part, plane, direct):
    """Return a bit plane of a quadrant: four pixels to a code, four codes to one above."""
    level = {(i, j): abs(v) >> plane & 1 for i, row in enumerate(part) for j, v in enumerate(row)}
    high, wide = len(part), len(part[0]) if part else 0
    levels = []
    while True:
        codes = {}
        for (i, j), v in level.items():
            bit = 1 << (3 - 2 * (i & 1) - (j & 1))
            codes[i // 2, j // 2] = codes.get((i // 2, j // 2), 0) | (bit if v else 0)
        high, wide = (high + 1) // 2, (wide + 1) // 2
        levels.append(codes)
        if direct:
            return "0000" + "".join(f"{codes[k]:04b}" for k in sorted(codes))
        if high * wide <= 1:
            break
        level = codes
    bits = ""
    for number, codes in enumerate(reversed(levels)):
        keys = sorted(codes, reverse=True)
        bits += "".join(_CODES[codes[k]] for k in keys if number == 0 or codes[k])
    return "1111" + bits
