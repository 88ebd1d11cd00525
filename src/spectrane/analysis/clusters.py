"""Connected groups of voxels that pass a test: their size, peak, and middle in millimetres."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.thresholds import Thresholded
from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.model.errors import LookError
from spectrane.model.pixels import Pixels
from spectrane.model.window import Window, relative, whole

_ROUNDING = 1 - 1e-9
"""A group of exactly the least size is kept, however its volume rounds."""
Neighbours = Literal[6, 18, 26]
NEIGHBOURS: dict[int, int] = dict(zip(get_args(Neighbours), (1, 2, 3), strict=True))
"""Neighbours of a voxel -> along how many axes they may differ."""


@dataclass(frozen=True)
class Cluster:
    """One group: voxels, mm³, its peak's value and place, and its centre of mass (mm, RAS+)."""

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


def check_neighbours(neighbours: int) -> None:
    """Raise LookError for a number of neighbours that there is not."""
    if neighbours not in NEIGHBOURS:
        raise LookError(f"neighbours {neighbours}: expected {', '.join(map(str, NEIGHBOURS))}")


def labelled(kept: NDArray[np.bool_], neighbours: int = 26) -> tuple[NDArray[np.int32], int]:
    """Return each voxel's group (0: none) and how many there are."""
    from scipy.ndimage import generate_binary_structure, label

    check_neighbours(neighbours)
    labels, count = label(kept, generate_binary_structure(3, NEIGHBOURS[neighbours]))
    return np.asarray(labels, np.int32), int(count)


def find_clusters(
    kept: Thresholded, frame: int, *, neighbours: int = 26, least: float = 1, in_mm3: bool = False
) -> list[Cluster]:
    """Return the groups of what a test keeps, the largest first.

    Peaks and centres of mass are those of ``frame`` (from 0), by its size. ``least`` is in voxels,
    or in mm³.
    """
    window = whole(kept.shape)
    labels, count = labelled(kept.passed(window), neighbours)
    values = kept.physical(frame, window)
    size = abs(float(np.linalg.det(kept.grid.matrix[:3, :3])))
    groups = []
    filled = np.flatnonzero(labels)
    order = filled[np.argsort(labels.ravel()[filled], kind="stable")]
    ends = np.cumsum(np.bincount(labels.ravel(), minlength=count + 1)[1:])
    for members in np.split(order, ends[:-1]) if count else []:
        index = np.stack(np.unravel_index(members, labels.shape), axis=1)
        if len(index) * (size if in_mm3 else 1) < least * _ROUNDING:
            continue
        own = np.nan_to_num(values[tuple(index.T)])
        weight = np.abs(own)
        middle = np.average(index, axis=0, weights=weight) if weight.any() else index.mean(axis=0)
        top = index[int(weight.argmax())]
        places = [kept.grid.matrix[:3, :3] @ at + kept.grid.matrix[:3, 3] for at in (top, middle)]
        groups.append((len(index), float(own[int(weight.argmax())]), places))
    groups.sort(key=lambda one: -one[0])
    return [Cluster(k, voxels, voxels * size, peak, *map(float, places[0]), *map(float, places[1]))
            for k, (voxels, peak, places) in enumerate(groups, 1)]  # fmt: skip


class OfSize(Derived, VolumeSource):
    """What a test keeps, without groups that are too small."""

    def __init__(
        self, kept: Thresholded, *, least: float, in_mm3: bool = False, neighbours: int = 26
    ) -> None:
        super().__init__(kept, has_mask=True)
        size = abs(float(np.linalg.det(kept.grid.matrix[:3, :3])))
        labels, _ = labelled(kept.passed(whole(kept.shape)), neighbours)
        counts = np.bincount(labels.ravel()) * (size if in_mm3 else 1.0)
        good = counts >= least * _ROUNDING
        good[0] = False
        self._large: NDArray[np.bool_] = good[labels]

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the tested volume, masked."""
        large = self._large[relative(window, whole(self.shape))]
        return self.parent.read(bands, window).only(large)
