"""What is sent of a picture to a page that has the one before: the planes that differ, where they
are few.

A change of one channel's limits leaves the others as they were, and a grey picture's three are one:
what goes through the socket is then a quarter.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

FEW = 2
"""Above so many planes the picture itself is put together sooner, from all four as they lie."""

_WHITE = np.uint32(0xFFFFFFFF)
_ROWS = 64
"""Rows that are looked at at a time, so that they stay in the cache."""


@dataclass(frozen=True)
class Sent:
    """A picture as it is sent.

    ``planes`` names the channels (0 red, 3 alpha) that each plane of ``data`` is for, one or the
    three colours; the others are those of the picture before, or where ``afresh``, 255. None means
    that ``data`` is the picture itself.
    """

    planes: list[list[int]] | None
    afresh: bool
    data: tuple[Any, ...]


def sent(rgba: NDArray[np.uint8], before: NDArray[np.uint8] | None) -> Sent:
    """Return what is to be sent of a picture (rows, columns, 4) where the page has ``before``.

    >>> grey = np.dstack([np.full((2, 2), level, np.uint8) for level in (7, 7, 7, 255)])
    >>> sent(grey, None).planes
    [[0, 1, 2]]
    >>> red = grey.copy()
    >>> red[..., 0] = 9
    >>> sent(red, grey).planes
    [[0]]
    """
    afresh = before is None or before.shape != rgba.shape
    if rgba is before:
        return Sent([], False, ())
    words = rgba.view("<u4")[..., 0]
    known = np.broadcast_to(_WHITE, words.shape)
    if before is not None and not afresh:
        known = before.view("<u4")[..., 0]
    differ = _bits(words, known)
    channels = [channel for channel in range(4) if differ >> 8 * channel & 0xFF]
    planes = [[channel] for channel in channels]
    if channels[:3] == [0, 1, 2] and not _bits(words, words, 8) & 0xFFFF:
        planes = [[0, 1, 2], *planes[3:]]
    if len(planes) > FEW:
        return Sent(None, True, (rgba.data,))
    return Sent(planes, afresh, tuple(rgba[..., alike[0]].tobytes() for alike in planes))


def _bits(words: NDArray[np.uint32], others: NDArray[np.uint32], shift: int = 0) -> int:
    """Return the bits in which any word differs from the other, shifted to the right."""
    found = 0
    for start in range(0, len(words), _ROWS):
        part = slice(start, start + _ROWS)
        other = others[part] >> np.uint32(shift) if shift else others[part]
        found |= int(np.bitwise_or.reduce(words[part] ^ other, axis=None))
    return found
