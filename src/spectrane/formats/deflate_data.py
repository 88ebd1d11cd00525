"""DEFLATE streams of a known length, as blocks of TIFF and chunks of HDF5 hold them."""

from __future__ import annotations

from typing import Any

import imagecodecs
import numpy as np
from numpy.typing import NDArray

from spectrane.engine.inflating import inflated

_codecs: Any = imagecodecs  # its stubs do not know that ``out`` may be an array


def inflate_into(data: Any, out: NDArray[np.uint8], wanted: int) -> int:
    """Unpack a zlib stream (RFC 1950) into an array, and return how many bytes it gave.

    Streams that go on after ``wanted`` bytes, or end without their checksum, still hold what is
    wanted. Raises RuntimeError or zlib.error for damage.

    >>> import zlib
    >>> out = np.zeros(6, np.uint8)
    >>> inflate_into(zlib.compress(b"abcdef"), out, 6), bytes(out)
    (6, b'abcdef')
    """
    try:
        return len(_codecs.deflate_decode(data, out=out))
    except RuntimeError:
        content = inflated(data, wanted)
        if len(content) < wanted:
            raise
        out[:wanted] = np.frombuffer(content, np.uint8)
        return wanted
