"""Windows: one half-open pair of indices per axis, for any number of axes."""

from __future__ import annotations

import math
import sys
from collections.abc import Iterator, Sequence
from typing import overload

Window = tuple[tuple[int, int], ...]
"""A half-open ``(start, stop)`` pair per axis: rows and columns, or i, j and k."""


def whole(shape: Sequence[int]) -> Window:
    """Return the window that covers everything.

    >>> whole((2, 3))
    ((0, 2), (0, 3))
    """
    return tuple((0, length) for length in shape)


def extent(window: Window) -> tuple[int, ...]:
    """Return a window's length along each axis.

    >>> extent(((2, 5), (0, 3)))
    (3, 3)
    """
    return tuple(stop - start for start, stop in window)


def window_area(window: Window) -> int:
    """Return how many pixels a window holds.

    >>> window_area(((2, 5), (0, 3)))
    9
    """
    total = 1
    for length in extent(window):
        total *= length
    return total


def intersection(first: Window, second: Window) -> Window | None:
    """Return what two windows share, or None.

    >>> intersection(((0, 4), (0, 4)), ((2, 9), (1, 3)))
    ((2, 4), (1, 3))
    >>> intersection(((0, 4),), ((4, 9),)) is None
    True
    """
    common = tuple((max(a, c), min(b, d)) for (a, b), (c, d) in zip(first, second, strict=True))
    return common if all(start < stop for start, stop in common) else None


def shifted(window: Window, by: Sequence[int]) -> Window:
    """Return a window moved by a number of pixels along each axis.

    >>> shifted(((0, 2), (1, 3)), (10, 20))
    ((10, 12), (21, 23))
    """
    return tuple((a + d, b + d) for (a, b), d in zip(window, by, strict=True))


def relative(window: Window, to: Window) -> tuple[slice, ...]:
    """Return the slices that cut ``window`` from an array that holds ``to``.

    >>> relative(((3, 4),), ((2, 9),))
    (slice(1, 2, None),)
    """
    return tuple(slice(a - start, b - start) for (a, b), (start, _) in zip(window, to, strict=True))


class BlocksTouching(Sequence[tuple[int, ...]]):
    """Positions of regular blocks, row by row, each made when it is asked for.

    A header may claim more blocks than memory could list.
    """

    def __init__(self, along: Sequence[range]) -> None:
        self._along = tuple(along)

    def __len__(self) -> int:
        return min(math.prod(map(len, self._along)), sys.maxsize)

    @overload
    def __getitem__(self, index: int) -> tuple[int, ...]: ...
    @overload
    def __getitem__(self, index: slice) -> list[tuple[int, ...]]: ...
    def __getitem__(self, index: int | slice) -> tuple[int, ...] | list[tuple[int, ...]]:
        if isinstance(index, slice):
            return [self[which] for which in range(*index.indices(len(self)))]
        if not -len(self) <= index < len(self):
            raise IndexError(index)
        index %= len(self)
        position: list[int] = []
        for along in reversed(self._along):
            index, which = divmod(index, len(along))
            position.append(along[which])
        return tuple(reversed(position))

    def __iter__(self) -> Iterator[tuple[int, ...]]:
        """Walk them; not by ``itertools.product``, which would first list each axis."""
        first, *others = self._along
        rest = BlocksTouching(others) if others else [()]
        return ((index, *after) for index in first for after in rest)


def blocks_touching(window: Window, block: Sequence[int]) -> BlocksTouching:
    """Return the positions of the regular blocks that a window touches, row by row.

    >>> list(blocks_touching(((0, 3), (2, 5)), (2, 4)))
    [(0, 0), (0, 1), (1, 0), (1, 1)]
    >>> blocks_touching(((0, 2**40), (0, 2**20)), (2, 4))[10**12]
    (3814697, 69632)
    """
    return BlocksTouching([
        range(start // length, -(-stop // length))
        for (start, stop), length in zip(window, block, strict=True)
    ])  # fmt: skip


def block_seen(
    position: Sequence[int], block: Sequence[int], shape: Sequence[int], window: Window
) -> tuple[Window, Window]:
    """Return the block at a position that a window touches, and its part in the window.

    >>> block_seen((0, 1), (2, 4), (3, 6), ((1, 3), (2, 5)))
    (((0, 2), (4, 6)), ((1, 2), (4, 5)))
    """
    place = block_window(position, block, shape)
    seen = intersection(place, window)
    assert seen is not None
    return place, seen


def block_window(position: Sequence[int], block: Sequence[int], shape: Sequence[int]) -> Window:
    """Return the window of the block at a position, cut off at the raster's edge.

    >>> block_window((1, 1), (2, 4), (3, 6))
    ((2, 3), (4, 6))
    """
    return tuple(
        (index * length, min((index + 1) * length, limit))
        for index, length, limit in zip(position, block, shape, strict=True)
    )
