"""What Exif (CIPA DC-008), which is a small TIFF, says in pictures of other formats."""

from __future__ import annotations

import struct


def orientation_of(tiff: bytes) -> int:
    r"""Return tag 274: how the first row and column lie; 1, as drawn, where nothing usable says.

    >>> orientation_of(b"II*\0\10\0\0\0\1\0\x12\1\3\0\1\0\0\0\6\0\0\0")
    6
    """
    order = {b"II": "<", b"MM": ">"}.get(tiff[:2])
    try:
        if order is None:
            return 1
        start = struct.unpack(order + "L", tiff[4:8])[0]
        (count,) = struct.unpack(order + "H", tiff[start : start + 2])
        for k in range(min(count, 200)):
            entry = tiff[start + 2 + 12 * k : start + 14 + 12 * k]
            tag, _, _, value = struct.unpack(order + "HHLH2x", entry)
            if tag == 274 and 1 <= value <= 8:
                return int(value)
    except struct.error:
        return 1
    return 1
