"""Connected groups of voxels that pass a test: their size, peaks, and middle in millimetres."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.grouping import SLAB, Grouping, LabelledSlab
from spectrane.analysis.thresholds import Threshold, Thresholded
from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.pixels import Pixels
from spectrane.model.window import Window, relative, whole

_ROUNDING = 1 - 1e-9
"""A group of exactly the least size is kept, however its volume rounds."""
_SPACINGS = 3.0
"""Peaks of a group lie so many of the longest voxel sides apart, where nothing else is said."""
F64 = NDArray[np.float64]
Ints = NDArray[np.int64]


@record(frozen=True)
class Peak:
    """A voxel stronger than its neighbours: its value, the tested statistic, and its place.

    ``rank`` 1 is the group's strongest. x, y and z are in mm (RAS+), i, j and k from 0;
    ``statistic`` is None where no single frame is tested.
    """

    rank: int
    peak: float
    statistic: float | None
    x: float
    y: float
    z: float
    i: int
    j: int
    k: int


@record(frozen=True)
class Cluster:
    """One group: voxels, mm³, its peak's value and place, and its centre of mass (mm, RAS+).

    ``statistic`` is the tested frame's value at the peak, ``peaks`` the others too where asked.
    """

    number: int
    voxels: int
    volume: float
    peak: float
    peak_x: float
    peak_y: float
    peak_z: float
    center_x: float
    center_y: float
    center_z: float
    statistic: float | None = None
    peaks: tuple[Peak, ...] = ()


def find_clusters(
    kept: Thresholded, frame: int, *, neighbours: int = 26, least: float = 1,
    in_mm3: bool = False, apart: float | None = None,
) -> list[Cluster]:  # fmt: skip
    """Return the groups of what a test keeps, the largest first.

    Peaks and centres of mass are those of ``frame`` (from 0): by its size, or where it is the one
    that is tested by how far it passes. ``least`` is in voxels, or in mm³. With ``apart`` groups
    tell all their peaks that lie so many millimetres apart; 0 stands for three times the longest
    side of a voxel. Slab by slab, in bounded memory.
    """
    if apart is not None and not 0 <= apart < float("inf"):
        raise LookError(f"apart {apart}: expected millimetres, 0 or more")
    grouping = Grouping(kept.shape, neighbours, slab=SLAB)
    seen = _Seen(kept, frame, every=apart is not None)
    for slab in grouping.slabs(seen.passed):
        seen.take(slab)
    size = abs(float(np.linalg.det(kept.grid.matrix[:3, :3])))
    floor = least * _ROUNDING / (size if in_mm3 else 1.0)
    reach = apart or _SPACINGS * max(kept.grid.pixel_size)
    return seen.clusters(grouping.joined(), grouping.count, size, floor, reach)


class _Seen:
    """What was seen of labels slab by slab: sums, and voxels that may be peaks."""

    def __init__(self, kept: Thresholded, frame: int, *, every: bool) -> None:
        self.kept, self.frame, self.every = kept, frame, every
        same = isinstance(kept.test, Threshold) and frame == kept.tested
        self._by_test: Threshold | None = kept.test if same else None  # type: ignore[assignment]
        self._sums: list[F64] = []
        self._peaks: list[tuple[Ints, F64, F64, Ints]] = []
        self._values: NDArray[Any] = np.empty(0)
        self._last: F64 | None = None
        self._ends = -1
        self._places: F64 = np.empty((3, 0))
        self._index: Ints = np.empty((3, 0), np.int64)
        self._worth: F64 = np.empty(0)

    def passed(self, window: Window) -> NDArray[np.bool_]:
        """Return which voxels of a window pass, and keep what they are worth for ``take``."""
        self._values = self.kept.numbers(self.frame, window)
        if self._by_test is None:
            return self.kept.passed(window)
        return self._by_test.passed(self._values, self.kept.level())

    def take(self, slab: LabelledSlab) -> None:
        """Add the sums and the likely peaks of a slab's labels."""
        at = np.flatnonzero(slab.labels.ravel() > 0)
        labels = slab.labels.ravel()[at].astype(np.int64) - 1 - slab.base
        k, j, i = np.unravel_index(at, slab.labels.shape)
        values = np.nan_to_num(self._values[i, j, k].astype(np.float64))
        index = np.stack([i, j, k + slab.window[2][0]])
        test = self._by_test
        strength = np.abs(values) if test is None else test.strength(values)
        weight = np.zeros(len(at)) if test and test.statistic == "p" else np.abs(values)
        sums = [np.bincount(labels, w, slab.count) for w in (
            None, weight, *(index * weight), *index.astype(float))]  # fmt: skip
        self._sums.append(np.stack(sums).astype(float))
        likely = self._first_of_each(labels, strength) if not self.every else (
            self._summits(slab, np.stack([k, j, i]), strength))  # fmt: skip
        self._peaks.append((labels[likely] + slab.base, strength[likely], values[likely],
                            index[:, likely]))  # fmt: skip

    @staticmethod
    def _first_of_each(labels: Ints, strength: F64) -> Ints:
        """Return the first of the strongest voxels of each label."""
        most = np.full(int(labels.max(initial=-1)) + 1, -np.inf)
        np.maximum.at(most, labels, strength)
        strongest = np.flatnonzero(strength == most[labels])[::-1]
        first = np.full(len(most), -1)
        first[labels[strongest]] = strongest  # the last of these to be put is the first of all
        return np.asarray(first[first >= 0], np.int64)

    def _summits(self, slab: LabelledSlab, places: Ints, strength: F64) -> Ints:
        """Return the voxels that none of the 26 beside them is stronger than.

        Those of a slab's last plane are held against the next slab's first one when it comes.
        """
        deep, rows, columns = slab.labels.shape
        around = np.full((deep + 2, rows + 2, columns + 2), -np.inf)
        k, j, i = places + 1
        around[k, j, i] = strength
        self._hold_against(around[1])
        around[0] = -np.inf if self._last is None else self._last
        highest = np.full(len(strength), True)
        for a, b, c in np.ndindex(3, 3, 3):
            highest &= strength >= around[k + a - 1, j + b - 1, i + c - 1]
        self._last, self._ends = around[deep].copy(), slab.window[2][1] - 1
        return np.flatnonzero(highest)

    def _hold_against(self, plane: F64) -> None:
        """Drop the last slab's summits in its last plane that the next plane overtops."""
        if self._last is None:
            return
        labels, strength, values, index = self._peaks[-1]
        highest = np.full(len(labels), True)
        border = np.flatnonzero(index[2] == self._ends)
        i, j = index[0, border] + 1, index[1, border] + 1
        for b, c in np.ndindex(3, 3):
            highest[border] &= strength[border] >= plane[j + b - 1, i + c - 1]
        self._peaks[-1] = labels[highest], strength[highest], values[highest], index[:, highest]

    def clusters(
        self, joined: Ints, count: int, size: float, floor: float, reach: float
    ) -> list[Cluster]:
        """Join the labels' sums and peaks to groups of at least ``floor`` voxels."""
        sums = np.concatenate(self._sums, axis=1) if self._sums else np.zeros((8, 0))
        voxels, weight, *rest = (np.bincount(joined, row, count) for row in sums)
        heavy = weight > 0
        middle = self._millimetres(np.where(heavy, rest[:3] / np.where(heavy, weight, 1.0),
                                            rest[3:] / np.maximum(voxels, 1.0)))  # fmt: skip
        if not count:
            return []
        labels, strength, self._worth, self._index = (
            np.concatenate(one, axis=-1) for one in zip(*self._peaks, strict=True))  # fmt: skip
        self._places = self._millimetres(self._index)
        owner = joined[labels]
        order = np.lexsort((*self._index, -strength, owner))
        starts = np.searchsorted(owner[order], np.arange(count + 1)).tolist()
        large = np.argsort(-voxels, kind="stable")
        found = []
        for number, group in enumerate(large[voxels[large] >= floor].tolist(), 1):
            own = order[starts[group] : starts[group + 1]]
            top = self._peak(1, int(own[0]))
            many = self._apart(own, reach) if self.every else []
            peaks = tuple(self._peak(rank, at) for rank, at in enumerate(many, 1))
            x, y, z = middle[:, group].tolist()
            held = int(voxels[group])
            found.append(Cluster(number, held, held * size, top.peak, top.x, top.y, top.z, x, y, z,
                                 top.statistic, peaks))  # fmt: skip
        return found

    def _millimetres(self, index: Any) -> F64:
        matrix = self.kept.grid.matrix
        return np.asarray(matrix[:3, :3] @ index + matrix[:3, 3:])

    def _apart(self, own: Ints, reach: float) -> list[int]:
        """Return peaks, the strongest first, each so far from all before it."""
        places = self._places[:, own]
        chosen = []
        while len(own):
            chosen.append(int(own[0]))
            far = ((places - places[:, :1]) ** 2).sum(axis=0) >= reach * reach * _ROUNDING
            far[0] = False
            own, places = own[far], places[:, far]
        return chosen

    def _peak(self, rank: int, at: int) -> Peak:
        i, j, k = self._index[:, at].tolist()
        x, y, z = self._places[:, at].tolist()
        worth = float(self._worth[at])
        return Peak(rank, worth, self._statistic((i, j, k), worth), x, y, z, i, j, k)

    def _statistic(self, voxel: tuple[int, int, int], worth: float) -> float | None:
        """Return the tested frame's value at a voxel; None where several are tested together."""
        if self._by_test is not None:
            return worth
        expression: Any = self.kept.expression
        frames = [self.kept.tested] if expression is None else list(expression.bands)
        if len(frames) != 1:
            return None
        window = tuple((n, n + 1) for n in voxel)
        return float(self.kept.physical(frames[0], window).item())


class OfSize(Derived, VolumeSource):
    """What a test keeps, without groups that are too small."""

    def __init__(
        self, kept: Thresholded, *, least: float, in_mm3: bool = False, neighbours: int = 26
    ) -> None:
        super().__init__(kept, has_mask=True)
        size = abs(float(np.linalg.det(kept.grid.matrix[:3, :3])))
        grouping = Grouping(kept.shape, neighbours)
        slabs: Sequence[LabelledSlab] = list(grouping.slabs(kept.passed))
        joined = np.concatenate([[-1], grouping.joined()])
        counts = sum((np.bincount(one.labels.ravel(), minlength=len(joined)) for one in slabs),
                     np.zeros(len(joined), np.int64))  # fmt: skip
        voxels = np.bincount(joined[1:], counts[1:], max(1, grouping.count))
        good = np.concatenate([voxels * (size if in_mm3 else 1.0) >= least * _ROUNDING, [False]])
        large = good[joined]  # the background, group -1, takes the last: False
        self._large = np.concatenate([large[one.labels] for one in slabs]).T

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the tested volume, masked."""
        large = self._large[relative(window, whole(self.shape))]
        return self.parent.read(bands, window).only(large)
