"""``spectrane export --join``: the bands of several files as one raster, written or linked."""

from __future__ import annotations

import contextlib
from typing import Any

import click

from spectrane.cli.answering import Answer, answering
from spectrane.cli.progress import progress_bar
from spectrane.cli.written import data_facts, data_line
from spectrane.model.whole_files import check_target

_FOR_LINKS = ("join", "linked", "grid_of", "resample", "names", "roles", "notes")


def join_files(options: Any, output: str) -> None:
    """Write the bands of all files as one raster, or a stack file that points to them."""
    from spectrane.opening import open as open_any
    from spectrane.opening import open_raster
    from spectrane.together import join_bands
    from spectrane.volume import Volume

    check_target(output, overwrite=options.overwrite)
    if options.linked:
        options.refuse_others(_FOR_LINKS, "with --linked, which writes no numbers")
    elif output.lower().endswith(".stack.toml"):
        raise click.UsageError(f"{output} would point to the files: say --linked")
    count = len(options.files)
    with answering(options) as answer, contextlib.ExitStack() as opened:
        rasters: list[Any] = [opened.enter_context(open_any(file, **options.opening(number, count)))
                   for number, file in enumerate(options.files)]  # fmt: skip
        if any(isinstance(one, Volume) for one in rasters):
            _join_volumes(rasters, output, options, opened, answer)
            return
        if options.nodata is not None and not options.linked:
            rasters = [raster.with_nodata(options.nodata) for raster in rasters]
        grid = None
        if options.grid_of:
            grid = opened.enter_context(open_raster(options.grid_of)).grid
        joined = join_bands(
            rasters, regrid=True, grid=grid, resample=options.resample,
            names=_listed(options.names), roles=_listed(options.roles), notes=options.notes,
        )  # fmt: skip
        if options.linked:
            _link(rasters, joined, output, options)
        else:
            _write(joined, output, options)
        facts = data_facts(output) | {
            "input": options.files[0], "inputs": list(options.files), "preview": None,
        }  # fmt: skip
        bands = [f"  {number}: {band.name}" + (f", {band.role}" if band.role else "") + (
            "" if band.role or not band.wavelength else f", {band.wavelength:g} nm")
            for number, band in enumerate(joined.bands, 1)]  # fmt: skip
        answer.add(facts, data_line(facts), *bands[:_MOST_TOLD])


def _join_volumes(
    volumes: list[Any], output: str, options: Any, stack: contextlib.ExitStack, answer: Answer
) -> None:
    """Write the frames of volumes as one volume, after what is computed from them."""
    from spectrane.cli.volume_parts import part_of_volume
    from spectrane.opening import open_volume
    from spectrane.spatial.frames import same_voxels
    from spectrane.volume import Volume
    from spectrane.volumes import join_frames

    flat = [file for file, one in zip(options.files, volumes, strict=True)
            if not isinstance(one, Volume)]  # fmt: skip
    if flat:
        raise click.UsageError(f"--join: {flat[0]} is a raster among volumes; join them apart")
    grid = stack.enter_context(open_volume(options.grid_of)) if options.grid_of else None
    joined = join_frames(volumes, regrid=True, grid=grid, resample=options.resample,
                         names=_listed(options.names))  # fmt: skip
    part = part_of_volume(joined, options, stack)
    with progress_bar(output, options.quiet) as progress:
        part.save(output, overwrite=options.overwrite, progress=progress)
    facts = data_facts(output) | {"input": options.files[0], "inputs": list(options.files),
                                  "preview": None}  # fmt: skip
    frames = [f"  {number}: {frame.name}" for number, frame in enumerate(part.frames, 1)]
    target = options.grid_of or options.files[0]
    frames += [f"  {file} is resampled onto the voxels of {target}"
               for file, one in zip(options.files, volumes, strict=True)
               if not same_voxels(one.grid, joined.grid)]  # fmt: skip
    answer.add(facts, data_line(facts), *frames[:_MOST_TOLD])


_MOST_TOLD = 24


def _listed(text: str | None) -> list[Any] | None:
    if text is None:
        return None
    return [None if one.strip() in ("", "-") else one.strip() for one in text.split(",")]


def _link(rasters: list[Any], joined: Any, output: str, options: Any) -> None:
    from spectrane.stack_file import write_stack

    count = len(rasters)
    members = [options.opening(number, count).get("member") for number in range(count)]
    counts = [len(raster.bands) for raster in rasters]
    parts = list(zip(options.files, members, counts, strict=True))
    write_stack(output, parts, joined.grid, joined.bands, resample=options.resample,
                overwrite=options.overwrite)  # fmt: skip


def _write(joined: Any, output: str, options: Any) -> None:
    """Write the numbers, in the order, part and unit asked for."""
    options.refuse(["crs", "pixel_size", "within", "force"], "with --join: say --grid-of")
    options.refuse(["where", "mask", "preview"], "with --join")
    shown = options.computed(joined) if options.compute or options.unit else joined
    wanted = options.band_names()
    if wanted is not None:
        shown = shown.select(wanted)
    part = options.part(shown)
    part = part.physical() if options.physical else part
    with progress_bar(output, options.quiet) as progress:
        part.save(output, progress=progress, **options.writing())
