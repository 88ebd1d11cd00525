"""Several volumes brought together."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from spectrane.kernels.quiet import quiet
from spectrane.model.errors import GridMismatch
from spectrane.model.source import deep_source_of
from spectrane.spatial.grids import grid_of
from spectrane.volume import Volume

if TYPE_CHECKING:
    from spectrane.model.asking import GridLike
    from spectrane.volume import VolumeKernel


@quiet
def join_frames(
    volumes: Iterable[Volume], *, regrid: bool = False, grid: GridLike | None = None,
    resample: VolumeKernel | None = None, names: Sequence[str] | None = None,
) -> Volume:  # fmt: skip
    """Return the frames of several volumes as one volume, in the order given; nothing is read.

    With ``regrid`` all are brought onto the first one's voxels, or onto ``grid``, a Grid or what
    has one (``resample`` as ``Volume.regrid`` has it). ``names`` are those of all frames; without,
    a lone frame without a name takes its file's. Types become NumPy's ``result_type``; units and
    scales stay each frame's own. Raises GridMismatch where voxels do not coincide and ``regrid`` is
    not asked for, or volumes do not meet.

    >>> import numpy as np, spectrane as sp
    >>> first, second = (sp.volume_from_array(np.full((1, 1, 2), n), affine=np.eye(4))
    ...                  for n in (3, 5))
    >>> visits = sp.join_frames([first, second], names=["before", "after"])
    >>> visits.compute({"change": "after - before"}).voxels().tolist()
    [[[2.0, 2.0]]]
    """
    from spectrane.spatial.frames import joined_frames

    target = None if grid is None else grid_of(grid)
    if target is not None and len(target.shape) != 3:
        raise GridMismatch("join_frames: a raster's grid is no volume's")
    return Volume(joined_frames([deep_source_of(volume) for volume in volumes], regrid=regrid,
                                grid=target, resample=resample, names=names))  # fmt: skip
