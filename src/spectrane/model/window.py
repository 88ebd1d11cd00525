"""Windows: one half-open pair of indices per axis, for any number of axes."""

from __future__ import annotations

from collections.abc import Sequence

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


def blocks_touching(window: Window, block: Sequence[int]) -> list[tuple[int, ...]]:
    """List the positions of the regular blocks that a window touches, row by row.

    >>> blocks_touching(((0, 3), (2, 5)), (2, 4))
    [(0, 0), (0, 1), (1, 0), (1, 1)]
    """
    positions: list[tuple[int, ...]] = [()]
    for (start, stop), length in zip(window, block, strict=True):
        along = range(start // length, -(-stop // length))
        positions = [(*before, index) for before in positions for index in along]
    return positions


def block_window(position: Sequence[int], block: Sequence[int], shape: Sequence[int]) -> Window:
    """Return the window of the block at a position, cut off at the raster's edge.

    >>> block_window((1, 1), (2, 4), (3, 6))
    ((2, 3), (4, 6))
    """
    return tuple(
        (index * length, min((index + 1) * length, limit))
        for index, length, limit in zip(position, block, shape, strict=True)
    )
