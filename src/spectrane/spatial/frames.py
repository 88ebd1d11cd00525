"""Volumes made of frames: those of several volumes together, and one from all frames of one."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from itertools import pairwise
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import PLACE, Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.model.band import Band, find_bands
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.physical import physical, value_dtype
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, called
from spectrane.model.window import Window, extent
from spectrane.spatial.joined import JoinedBands
from spectrane.spatial.volumetric import RegriddedVolume

OverFrames = Literal["mean", "std", "min", "max", "median", "range"]
WAYS: tuple[OverFrames, ...] = get_args(OverFrames)
_BLOCK = 1 << 22
"""Numbers of all frames together that are held at a time, about."""
F64 = NDArray[np.float64]


def same_voxels(grid: Grid, other: Grid) -> bool:
    """Tell whether two volumes' voxels coincide, to a thousandth of their sides."""
    if grid.shape != other.shape:
        return False
    corners = np.array([(i, j, k, 1) for i in (0, grid.shape[0]) for j in (0, grid.shape[1])
                        for k in (0, grid.shape[2])], float).T  # fmt: skip
    apart = np.abs((grid.matrix - other.matrix) @ corners).max()
    return bool(apart <= 1e-3 * min(grid.pixel_size))


class JoinedFrames(JoinedBands, VolumeSource):
    """Frames of volumes whose voxels coincide, in the order given."""

    what = "join_frames: there are no volumes"

    def check(self, parents: Sequence[Source]) -> None:
        """Raise GridMismatch where voxels do not coincide."""
        first = parents[0]
        for parent in parents[1:]:
            if not same_voxels(parent.grid, first.grid):
                raise GridMismatch(
                    f"join_frames: the voxels of {called(parent)} ({parent.shape}) do not coincide "
                    f"with those of {called(first)} ({first.shape}); ask for them to be brought "
                    "onto one grid: regrid=True (--grid-of)"
                )


def joined_frames(
    sources: Sequence[Source], *, regrid: bool = False, grid: Grid | None = None,
    resample: str | None = None, names: Sequence[str] | None = None,
) -> Source:  # fmt: skip
    """Return the frames of volumes as one volume; with ``regrid`` on the first one's grid."""
    target = grid if grid is not None else sources[0].grid if regrid and sources else None
    if target is not None:
        sources = [one if same_voxels(one.grid, target) else RegriddedVolume(one, target, resample)
                   for one in sources]  # fmt: skip
    made = JoinedFrames(sources)
    times = [band.time for band in made.bands]
    rising = all(a is not None and b is not None and a < b for a, b in pairwise(times))
    if names is not None and len(names) != len(made.bands):
        raise LookError(f"names: {len(names)} for {len(made.bands)} frames")
    made.bands = tuple(
        replace(band, name=band.name if names is None else names[k],
                time=band.time if rising else None)
        for k, band in enumerate(made.bands)
    )  # fmt: skip
    if len({repr(source.look) for source in sources}) == 1:
        made.look = sources[0].look
    return made


def _range(values: F64) -> F64:
    return np.asarray(np.nanmax(values, axis=0) - np.nanmin(values, axis=0))


_FUNCTIONS: dict[OverFrames, Callable[[F64], F64]] = {
    "mean": lambda v: np.nanmean(v, axis=0), "std": lambda v: np.nanstd(v, axis=0),
    "min": lambda v: np.nanmin(v, axis=0), "max": lambda v: np.nanmax(v, axis=0),
    "median": lambda v: np.nanmedian(v, axis=0), "range": _range,
}  # fmt: skip


class AcrossFrames(Derived, VolumeSource):
    """One frame from several: of each voxel the valid physical values' mean, σ, extreme, …

    σ divides by N. A voxel that is valid in no frame is invalid.
    """

    def __init__(self, parent: Source, way: OverFrames, frames: Sequence[int]) -> None:
        if way not in WAYS:
            raise LookError(f"over_frames {way!r}: expected {', '.join(WAYS)}")
        described = [parent.bands[frame] for frame in frames]
        units = {band.unit for band in described}
        unit = units.pop() if len(units) == 1 else None
        super().__init__(parent, keep=(*PLACE, "metadata", "identity"),
                         bands=(Band(way, unit=unit),),
                         dtype=value_dtype(parent.dtype))  # fmt: skip
        self.way, self.frames, self._described = way, list(frames), described
        i, j, k = parent.shape
        self.block_shape = (i, j, max(1, min(k, _BLOCK // max(1, i * j * len(frames)))))

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, some planes at a time: all frames of it are held."""
        out = np.empty(extent(window), self.dtype)
        for start, part in self._parts(window):
            pixels = self.parent.read(self.frames, part)
            planes = [
                physical(values, band, np.float64)
                for values, band in zip(pixels.values, self._described, strict=True)
            ]
            held = np.where(pixels.validity & np.isfinite(planes), planes, np.nan)
            nowhere = np.isnan(held).all(axis=0)
            held[:, nowhere] = 0.0  # NumPy warns of what holds no number at all
            found = np.where(nowhere, np.nan, _FUNCTIONS[self.way](held))
            out[..., start : start + found.shape[2]] = found
        return Pixels(np.repeat(out[np.newaxis], len(bands), axis=0))

    def _parts(self, window: Window) -> Iterator[tuple[int, Window]]:
        across, down, (first, last) = window
        step = self.block_shape[2]
        for k in range(first, last, step):
            yield k - first, (across, down, (k, min(k + step, last)))


def over_frames(source: Source, way: OverFrames, frames: Any = None) -> Source:
    """Return one frame from several frames of a volume: see ``AcrossFrames``."""
    return AcrossFrames(source, way, find_bands(source.bands, frames))
