"""Connected voxels in volumes of any size: labelled slab by slab, joined where slabs meet."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.window import Window

Neighbours = Literal[6, 18, 26]
NEIGHBOURS: dict[int, int] = dict(zip(get_args(Neighbours), (1, 2, 3), strict=True))
"""Neighbours of a voxel -> along how many axes they may differ."""
SLAB = 4 << 20
"""Voxels of a slab, at least a plane."""
Flags = NDArray[np.bool_]
Labels = NDArray[np.int32]


def check_neighbours(neighbours: int) -> None:
    """Raise LookError for a number of neighbours that there is not."""
    if neighbours not in NEIGHBOURS:
        raise LookError(f"neighbours {neighbours}: expected {', '.join(map(str, NEIGHBOURS))}")


@record(frozen=True)
class LabelledSlab:
    """A window's labels (k, j, i), 0 for none: ``count`` of them, above ``base``."""

    window: Window
    labels: Labels
    base: int
    count: int


class Grouping:
    """Voxels that touch, of a volume of which whole planes are told at a time.

    ``slabs`` walks it; afterwards ``joined`` says for each label which group (from 0) it is of, and
    ``count`` how many groups there are. Memory is that of a slab.

    >>> held = np.array([[[True, True, False, True]]])
    >>> grouping = Grouping(held.shape, 6, slab=1)
    >>> labels = [slab.labels.ravel().tolist() for slab in grouping.slabs(
    ...     lambda window: held[:, :, slice(*window[2])])]
    >>> labels, grouping.joined().tolist(), grouping.count
    ([[1], [2], [0], [3]], [0, 0, 1], 2)
    """

    def __init__(self, shape: tuple[int, ...], neighbours: int = 26, *, slab: int = SLAB) -> None:
        check_neighbours(neighbours)
        self.shape, self.axes, self.labels, self.count = shape, NEIGHBOURS[neighbours], 0, 0
        self._deep = max(1, slab // max(1, shape[0] * shape[1]))
        self._meeting: list[NDArray[np.int64]] = []
        self._joined: NDArray[np.int64] | None = None

    def slabs(self, passed: Callable[[Window], Flags]) -> Iterator[LabelledSlab]:
        """Label slab by slab; ``passed`` tells which voxels (i, j, k) of a window count."""
        from scipy.ndimage import generate_binary_structure, label

        structure = generate_binary_structure(3, self.axes)
        last: Labels | None = None
        across, down, deep = self.shape
        for first in range(0, deep, self._deep):
            window = ((0, across), (0, down), (first, min(first + self._deep, deep)))
            labels, count = label(np.ascontiguousarray(passed(window).T), structure)
            if self.labels and count:
                labels[labels > 0] += self.labels
            if last is not None and count and last.any():
                self._meeting.append(_touching(last, labels[0], self.axes))
            self.labels += int(count)
            last = labels[-1].copy()
            yield LabelledSlab(window, labels, self.labels - int(count), int(count))

    def joined(self) -> NDArray[np.int64]:
        """Return the group of each label, from 0; of label 1 first. Call it after ``slabs``."""
        if self._joined is None:
            self._joined = self._components()
            self.count = int(self._joined.max(initial=-1)) + 1
        return self._joined

    def _components(self) -> NDArray[np.int64]:
        if not self._meeting:
            return np.arange(self.labels)
        from scipy.sparse import coo_array
        from scipy.sparse.csgraph import connected_components

        pairs = np.concatenate(self._meeting) - 1
        shape = (self.labels, self.labels)
        edges = coo_array((np.ones(len(pairs), np.int8), (pairs[:, 0], pairs[:, 1])), shape)
        return np.asarray(connected_components(edges, directed=False)[1], np.int64)


def _touching(above: Labels, below: Labels, axes: int) -> NDArray[np.int64]:
    """Return the pairs of labels of two neighbouring planes that touch, each once."""
    steps = [(y, x) for y in (-1, 0, 1) for x in (-1, 0, 1) if abs(y) + abs(x) < axes]
    rows, columns = above.shape
    found = []
    for y, x in steps:
        here = above[max(0, -y) : rows - max(0, y), max(0, -x) : columns - max(0, x)]
        there = below[max(0, y) : rows - max(0, -y), max(0, x) : columns - max(0, -x)]
        both = (here > 0) & (there > 0)
        found.append(np.stack([here[both], there[both]], axis=1).astype(np.int64))
    return np.unique(np.concatenate(found), axis=0)
