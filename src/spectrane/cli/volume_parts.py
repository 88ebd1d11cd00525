"""Which voxels and frames of a volume ``export`` writes."""

from __future__ import annotations

import contextlib
from typing import Any

import click

_FOR_VOLUMES = ("where", "mask", "bands", "grid_of", "resample", "force", "format", "compute",
                "unit", "nodata", "physical", "over_frames", "join", "names")  # fmt: skip


def part_of_volume(volume: Any, options: Any, stack: contextlib.ExitStack) -> Any:
    """Return a volume as it is to be written."""
    from spectrane.opening import open as open_any
    from spectrane.volume import Volume

    options.refuse_others(_FOR_VOLUMES, "of volumes")
    part = _chosen(options.computed(volume), options, stack)
    if options.over_frames:
        part = part.over_frames(options.over_frames)
    part = part.physical() if options.physical else part
    if not options.grid_of or options.join:
        options.refuse(["resample", "force"], "without --grid-of")
        return part
    other = stack.enter_context(open_any(options.grid_of))
    if not isinstance(other, Volume):
        raise click.UsageError("--grid-of: expected another volume")
    return part.regrid(other.grid, resample=options.resample, force=options.force)


def _chosen(volume: Any, options: Any, stack: contextlib.ExitStack) -> Any:
    """Return the voxels and the frames that are asked for."""
    from spectrane.opening import open as open_any

    if options.where:
        volume = volume.masked(options.where)
    if options.mask:
        volume = volume.masked(stack.enter_context(open_any(options.mask)))
    wanted = options.band_names()
    return volume if wanted is None else volume.select(wanted)
