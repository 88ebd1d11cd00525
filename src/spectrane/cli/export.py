"""``spectrane export``: data in another format, order, type or part."""

from __future__ import annotations

import contextlib
import json
import os
import warnings
from typing import Any

import click

from spectrane.cli.common import (
    NoData,
    Numbers,
    counted,
    examples,
    for_each,
    force_option,
    opening_of,
    opening_options,
    progress_bar,
    shared_options,
    told_warnings,
)
from spectrane.cli.looks import computed, limits_given
from spectrane.cli.raw import TYPES
from spectrane.display.export import RESCALES
from spectrane.model.look import Look
from spectrane.model.resampling import RESAMPLINGS
from spectrane.model.whole_files import written_whole


@click.command("export")
@click.argument("files", nargs=-1, required=True, metavar="FILE... OUT")
@click.option("--out-dir", type=click.Path(), help="A folder for one output per file.")
@click.option("--format", "ending", help="With --out-dir: the ending that names the format.")
@click.option("--bands", help="Bands to write, in this order: 3,2,1 or nir,red.")
@click.option("--type", "dtype", type=click.Choice(TYPES), help="Another type.")
@click.option("--rescale", type=click.Choice(RESCALES),
              help="Numbers as they are (rounded, clamped, told) or stretched.")  # fmt: skip
@click.option("--limits", multiple=True, help="With --rescale limits: percentile:2,98, LOW,HIGH.")
@click.option("--nodata", type=NoData(), help="Stored numbers that mean nothing, or none.")
@click.option("--compute", multiple=True, metavar="NAME=EXPRESSION",
              help="Computed bands instead: ndvi, or dry=(swir16-nir)/(swir16+nir).")  # fmt: skip
@click.option("--unit", help="Physical values in another unit, such as celsius.")
@click.option(
    "--physical",
    is_flag=True,
    help="Physical values as floats, not stored numbers with scale and offset.",
)
@click.option("--area", type=Numbers(4, "X1,Y1,X2,Y2"), help="Map bounds to write.")
@click.option("--rows", type=Numbers(2, "START,STOP"), help="Rows to write, from 0.")
@click.option("--columns", type=Numbers(2, "START,STOP"), help="Columns to write, from 0.")
@click.option("--grid-of", type=click.Path(), help="On the grid of this file.")
@click.option("--crs", help="On a grid in this coordinate system: EPSG:CODE.")
@click.option("--pixel-size", type=float, help="Of that grid, in its units.")
@click.option("--resample", type=click.Choice(RESAMPLINGS), help="For another grid: the kernel.")
@click.option("--within", type=float, help="Of a swath: metres to the nearest pixel, at most.")
@force_option
@click.option("--where", help="Volumes: keep voxels that pass, as in 'abs(t) >= 5'.")
@click.option("--inside", type=click.Path(), help="Volumes: keep voxels where this one is not 0.")
@click.option("--compress", help="TIFF: deflate, zstd, lzw or none.")
@click.option("--planes", type=click.Choice(["chunky", "planar"]),
              help="TIFF: the bands of a pixel together, or each band by itself.")  # fmt: skip
@click.option("--interleave", help="Raw: bsq, bil or bip.")
@click.option("--quality", type=click.IntRange(1, 100), help="JPEG.")
@opening_options
@click.option("--preview", type=click.Path(), help="A picture (.png) of before and after.")
@click.option("--overwrite", is_flag=True, help="Replace files that exist.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "export demo/sound_8band.tif colours.tif --bands red,green,blue",
    "export demo/sound_8band.tif quick.png --bands 3,2,1 --type uint8 --rescale limits",
    "export demo/sound_8band.tif reflectance.tif --physical",
    "export demo/fetlock_ct joint.nii.gz",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Write data to another file: TIFF, FITS, PNG, JPEG, NPY, netCDF, Zarr or raw.

    The ending of OUT names the format. The input is never changed. Volumes go to NIfTI (.nii,
    .nii.gz): --bands are frames, --grid-of is another volume.
    """
    pairs = _pairs(files, options)
    if options["preview"] and len(pairs) > 1:
        raise click.UsageError("--preview shows one export")
    for_each(list(pairs), lambda file: _one(file, pairs[file], options))


def _pairs(files: tuple[str, ...], options: dict[str, Any]) -> dict[str, str]:
    folder = options["out_dir"]
    if folder is None:
        if len(files) != 2:
            raise click.UsageError("say FILE and OUT, or several FILEs with --out-dir")
        return {files[0]: files[1]}
    ending = options["ending"]
    ending = ".tif" if ending is None else "." + ending.lstrip(".")
    names = {
        file: os.path.join(folder, os.path.splitext(os.path.basename(file))[0] + ending)
        for file in files
    }
    if len(set(names.values())) < len(files):
        raise click.UsageError("two files would get the same output; export them one by one")
    os.makedirs(folder, exist_ok=True)
    return names


def _one(file: str, target: str, options: dict[str, Any]) -> None:
    from spectrane.opening import open as open_any
    from spectrane.volume import Volume

    quiet = options["quiet"]
    look = Look(limits=limits_given(options["limits"])) if options["limits"] else None
    own = {name: options[name] for name in ("compress", "planes", "interleave", "quality")
           if options[name] is not None}  # fmt: skip
    with (
        told_warnings(quiet or options["as_json"]) as told,
        contextlib.ExitStack() as stack,
        open_any(file, **opening_of(options)) as opened,
        progress_bar(target, quiet) as progress,
    ):
        if isinstance(opened, Volume):
            part: Any = _part_of_volume(opened, options, stack)
            part.save(target, overwrite=options["overwrite"], progress=progress)
        elif options["where"] or options["inside"]:
            raise click.UsageError("--where and --inside are for volumes; rasters: spectrane clip")
        else:
            part = _part(opened, options)
            part.save(
                target, dtype=options["dtype"], rescale=options["rescale"], look=look,
                overwrite=options["overwrite"], progress=progress, **own,
            )  # fmt: skip
        if options["preview"]:
            _preview(opened, target, options)
    if options["as_json"]:
        click.echo(json.dumps({"file": file, "output": target, "told": told}))
    elif not quiet:
        count, *sizes = part.shape
        named = "band" if len(sizes) == 2 else "frame"
        size = " x ".join(map(str, sizes[::-1] if len(sizes) == 2 else sizes))
        click.echo(f"{target}: {size}, {counted(count, named)}")


_FOR_VOLUMES = ("where", "inside", "bands", "grid_of", "resample", "member", "spacing", "out_dir",
                "force", "ending", "damaged", "overwrite", "as_json", "quiet")  # fmt: skip


def _part_of_volume(volume: Any, options: dict[str, Any], stack: Any) -> Any:
    from spectrane.opening import open as open_any
    from spectrane.volume import Volume

    wrong = [name for name, given in options.items() if given and name not in _FOR_VOLUMES]
    if wrong:
        named = ", ".join("--" + name.replace("_", "-").replace("dtype", "type") for name in wrong)
        raise click.UsageError(f"{named}: not for volumes")
    names = options["bands"]
    if options["where"]:
        volume = volume.masked(options["where"])
    if options["inside"]:
        volume = volume.masked(stack.enter_context(open_any(options["inside"])))
    part = volume.select([one.strip() for one in names.split(",")]) if names else volume
    if not options["grid_of"]:
        return part
    like = stack.enter_context(open_any(options["grid_of"]))
    if not isinstance(like, Volume):
        raise click.UsageError("--grid-of: expected another volume")
    return part.regrid(like.grid, resample=options["resample"], force=options["force"])


def _part(raster: Any, options: dict[str, Any]) -> Any:
    part = computed(raster, options)
    if options["bands"]:
        part = part.select([name.strip() for name in options["bands"].split(",")])
    rows, columns = (
        None if pair is None else (int(pair[0]), int(pair[1]))
        for pair in (options["rows"], options["columns"])
    )
    if options["area"] or rows or columns:
        part = part.crop(bounds=options["area"], rows=rows, columns=columns)
    part = _regridded(part, options)
    part = part.convert(options["unit"]) if options["unit"] else part
    return part.physical() if options["physical"] else part


def _regridded(part: Any, options: dict[str, Any]) -> Any:
    """Return the raster on the grid asked for, if one is."""
    import spectrane.raster

    if options["grid_of"]:
        if options["crs"] or options["pixel_size"]:
            raise click.UsageError("--grid-of is a grid already; leave out --crs and --pixel-size")
        with spectrane.raster.open(options["grid_of"]) as like:
            return part.regrid(like.grid, resample=options["resample"], force=options["force"],
                               within=options["within"])  # fmt: skip
    if options["crs"] or options["pixel_size"]:
        return part.regrid(crs=options["crs"], pixel_size=options["pixel_size"],
                           resample=options["resample"], force=options["force"],
                           within=options["within"])  # fmt: skip
    if options["resample"]:
        raise click.UsageError("--resample is for another grid: --grid-of, --crs or --pixel-size")
    return part


def _preview(raster: Any, target: str, options: dict[str, Any]) -> None:
    """Draw what was read and what was written, each as its stored order shows it."""
    import spectrane.raster
    from spectrane.display.side_by_side import side_by_side
    from spectrane.formats.png.encoding import encode_png

    with spectrane.raster.open(target) as after:
        pictures, captions = [], []
        for name, one in (("before", raster), ("after", after)):
            shown = one.bands[:3] if len(one.bands) >= 3 else one.bands[:1]
            look = Look(channels=tuple(range(1, len(shown) + 1)), limits="percentile:2,98")
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")  # the stored order is what is to be seen
                pictures.append(spectrane.raster.render(one, look, size=(640, 600)))
            captions.append(f"{name}: {', '.join(b.name for b in shown)} as stored ({one.dtype})")
    with written_whole(options["preview"], overwrite=options["overwrite"]) as file:
        text = {"Description": "Preview of an export, not data."}
        file.write(encode_png(side_by_side(pictures, captions), text))
