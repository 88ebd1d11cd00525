"""Bit planes of a quadrant tree with a fixed Huffman code, as HCOMPRESS has them; its transform.

White, Postman and Lattanzi, "Compression of the Guide Star digitised Schmidt plates", 1992; FITS
4.0, section 10.4.4. Numbers are written plane by plane, the highest first, as four quadrants; a
plane is plain (four pixels to a nibble) or a tree, each set node of which has a code of four parts.
"""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.choice import Twin

_ENDS, _UNKNOWN, _LEFT = -1, -2, -3
FAULTS = {_ENDS: "ends too early", _UNKNOWN: "holds a plane of unknown kind",
          _LEFT: "does not end where its planes do"}  # fmt: skip


def plain_reference(data: NDArray[np.uint8], at: int, count: int, codes: NDArray[np.int64]) -> int:
    """Take nibbles as they stand, from a bit on, into ``codes``; the bit after them, or a fault."""
    if at + 4 * count > 8 * len(data):
        return _ENDS
    for k in range(count):
        code = 0
        for _ in range(4):
            code = code << 1 | (data[at >> 3] >> (7 - (at & 7))) & 1
            at += 1
        codes[k] = code
    return at


def tree_reference(
    data: NDArray[np.uint8], at: int, high: int, wide: int, codes: NDArray[np.int64],
    nodes: NDArray[np.int64],
) -> int:  # fmt: skip
    """Take a tree, from its root to codes of four pixels each; the bit after it, or a fault.

    Of each level only the nodes set in the one above have a code, the last one first.
    """
    depth = 0
    while (1 << depth) < max(high, wide):
        depth += 1
    for level in range(max(1, depth)):
        step = 1 << max(0, depth - level)
        tall, broad = (high + step - 1) // step, (wide + step - 1) // step
        if level == 0:
            tall = broad = 1
            nodes[0] = 1
        for i in range(tall if level else 0):
            for j in range(broad):
                code = codes[(i // 2) * ((broad + 1) // 2) + j // 2]
                nodes[i * broad + j] = code >> (3 - 2 * (i & 1) - (j & 1)) & 1
        for k in range(tall * broad - 1, -1, -1):
            value, length, found = 0, 0, 0 if nodes[k] == 0 else -1
            while found < 0:
                if at >= 8 * len(data):
                    return _ENDS
                value = value << 1 | (data[at >> 3] >> (7 - (at & 7))) & 1
                at += 1
                length += 1
                if length == 3 and value < 4:
                    found = 1 << value
                elif length == 4 and value < 13:
                    found = (3, 5, 10, 12, 15)[value - 8]
                elif length == 5 and value < 31:
                    found = (6, 7, 9, 11, 13)[value - 26]
                elif length == 6:
                    found = 0 if value == 62 else 14
            nodes[k] = found
        for k in range(tall * broad):
            codes[k] = nodes[k]
    return at


def quadrants_reference(
    data: NDArray[np.uint8], planes: NDArray[np.int64], out: NDArray[np.int64]
) -> Any:
    """Put the magnitudes of all four quadrants into ``out``; the bit after them, or a fault."""
    rows, columns = out.shape
    half_rows, half_columns = (rows + 1) // 2, (columns + 1) // 2
    at = 0
    codes = np.zeros(half_rows * half_columns + 4, np.int64)
    nodes = np.zeros(half_rows * half_columns + 4, np.int64)
    for quadrant in range(4):
        first_row = 0 if quadrant < 2 else half_rows
        first_column = 0 if quadrant % 2 == 0 else half_columns
        high = half_rows if quadrant < 2 else rows // 2
        wide = half_columns if quadrant % 2 == 0 else columns // 2
        if high * wide == 0:
            continue
        down, across = (high + 1) // 2, (wide + 1) // 2
        for plane in range(planes[(quadrant + 1) // 2] - 1, -1, -1):
            at = plain_reference(data, at, 1, codes)
            kind = codes[0]
            if at >= 0 and kind == 0:
                at = plain_reference(data, at, down * across, codes)
            elif at >= 0 and kind == 15:
                at = tree_reference(data, at, high, wide, codes, nodes)
            elif at >= 0:
                return _UNKNOWN
            if at < 0:
                return at
            for i in range(high):
                for j in range(wide):
                    code = codes[(i // 2) * across + j // 2]
                    bit = code >> (3 - 2 * (i & 1) - (j & 1)) & 1
                    out[first_row + i, first_column + j] |= bit << plane
    return at


def signs_reference(data: NDArray[np.uint8], at: int, out: NDArray[np.int64]) -> int:
    """Turn numbers that a bit each says are negative; 0, or a fault."""
    for i in range(out.shape[0]):
        for j in range(out.shape[1]):
            if out[i, j] == 0:
                continue
            if at >= 8 * len(data):
                return _ENDS
            if (data[at >> 3] >> (7 - (at & 7))) & 1:
                out[i, j] = -out[i, j]
            at += 1
    return 0


def planes_reference(
    data: NDArray[np.uint8], planes: NDArray[np.int64], out: NDArray[np.int64]
) -> int:
    """Put the numbers of a stream into ``out`` (rows, columns), zeros before; 0, or a fault.

    ``planes`` are how many bit planes the first quadrant, the second and third, and the last have.
    """
    at = quadrants_reference(data, planes, out)
    return signed(data, at, out, signs_reference)


def signed(data: NDArray[np.uint8], at: int, out: NDArray[np.int64], signs: Any) -> int:
    """Go on after the quadrants: four zeros, and signs from the next byte on; 0, or a fault."""
    end = np.zeros(1, np.int64)
    at = plain_reference(data, at, 1, end) if at >= 0 else at
    if at < 0 or end[0]:
        return at if at < 0 else _LEFT
    return int(signs(data, (at + 7) // 8 * 8, out))


planes = Twin(planes_reference, "spectrane.kernels.quadtree_loops", "planes", 12.0)


def restored(coefficients: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the pixels of H-transform coefficients, exactly where none was rounded away.

    Sums and differences of four pixels go level by level, from the whole to single ones; bits that
    sums and differences have in common are kept once.

    >>> restored(np.array([[20]])).tolist()
    [[20]]
    """
    a = coefficients.copy()
    rows, columns = a.shape
    levels = 0
    while (1 << levels) < max(rows, columns):
        levels += 1
    if levels == 0:
        return a
    bit = 1 << (levels - 1)
    a[0, 0] = _rounded(a[:1, :1], 4 * bit)[0, 0]
    for level in range(levels - 1, -1, -1):
        step = 1 << level
        tall, broad = -(-rows // step), -(-columns // step)
        part = np.zeros((tall + tall % 2, broad + broad % 2), np.int64)  # what is off edge is 0
        part[:tall:2, :broad:2] = a[: -(-tall // 2), : -(-broad // 2)]
        part[:tall:2, 1:broad:2] = a[: -(-tall // 2), -(-broad // 2) : broad]
        part[1:tall:2, :broad:2] = a[-(-tall // 2) : tall, : -(-broad // 2)]
        part[1:tall:2, 1:broad:2] = a[-(-tall // 2) : tall, -(-broad // 2) : broad]
        h0, hy = part[::2, ::2], part[::2, 1::2]
        hx, hc = part[1::2, ::2], part[1::2, 1::2]
        hx, hy = _rounded(hx, 2 * bit), _rounded(hy, 2 * bit)
        hc = _rounded(hc, bit) if level else hc.copy()  # what it is a view of is written below
        low = hc & bit
        hx, hy = (np.where(one >= 0, one - low, one + low) for one in (hx, hy))
        high = (hc ^ hx ^ hy) & (2 * bit)
        below = np.where(low == 0, high, low - high)
        h0 = np.where(h0 >= 0, h0 + low - high, h0 + below)
        shift = 1 if level else 2
        part[1::2, 1::2] = (h0 + hx + hy + hc) >> shift
        part[1::2, ::2] = (h0 + hx - hy - hc) >> shift
        part[::2, 1::2] = (h0 - hx + hy - hc) >> shift
        part[::2, ::2] = (h0 - hx - hy + hc) >> shift
        a[:tall, :broad] = part[:tall, :broad]
        bit >>= 1
    return a


def _rounded(values: NDArray[Any], unit: int) -> NDArray[np.int64]:
    """Return values rounded to multiples of a power of two, halves away from zero."""
    half = unit >> 1
    return np.asarray((values + np.where(values >= 0, half, half - 1)) & -unit, np.int64)
