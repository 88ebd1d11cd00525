"""``spectrane export``: data in another format, order, type or part."""

from __future__ import annotations

import contextlib
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, for_each
from spectrane.cli.areas import ENDINGS, READ, written_areas
from spectrane.cli.files import OpeningOptions, targets
from spectrane.cli.looks import PartOptions, ValueOptions, limits_given, side_of
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.previews import before_and_after
from spectrane.cli.progress import progress_bar
from spectrane.cli.written import data_facts, data_line
from spectrane.display.export import RESCALES, Rescale
from spectrane.formats.flat import Interleave
from spectrane.kernels.records import record
from spectrane.model.look import Look
from spectrane.model.number_types import NumberType
from spectrane.model.resampling import Resampling
from spectrane.model.whole_files import check_target
from spectrane.spatial.frames import WAYS, OverFrames


@record(frozen=True)
class ExportOptions(PartOptions, ValueOptions, OpeningOptions):
    """What ``export`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    output: str | None = words.output("The file; its ending names the format.")
    out_dir: str | None = words.out_dir()
    format: str | None = option(
        "--format",
        group="Output",
        metavar="ENDING",
        help="With --out-dir: the ending that names the format.",
    )
    bands: str | None = option(
        "--bands",
        group="Result",
        metavar="BAND,…",
        help="Bands or frames, in this order: 3,2,1 or nir,red.",
    )
    type: NumberType | None = words.number_type()
    rescale: Rescale | None = option(
        "--rescale", group="Result", type=click.Choice(RESCALES),
        help="Numbers as they are (rounded, clamped, told) or stretched.",
    )  # fmt: skip
    limits: tuple[str, ...] = words.limits()
    physical: bool = option(
        "--physical", group="Result", is_flag=True,
        help="Physical values as floats, not stored numbers with scale and offset.",
    )  # fmt: skip
    grid_of: str | None = words.grid_of()
    crs: str | None = words.crs()
    pixel_size: tuple[float, ...] | None = words.pixel_size()
    resample: Resampling | None = words.resample()
    within: float | None = option(
        "--within",
        group="Place",
        type=float,
        help="Of a swath: metres to the nearest pixel, at most.",
    )
    force: bool = words.force()
    classes: str | None = option(
        "--classes", group="Result", metavar="CLASS,…",
        help="To shapes (.geojson, .gpkg): the areas of these classes, by name or stored number.",
    )  # fmt: skip
    join: bool = option("--join", group="Result", is_flag=True,
                        help="All bands of all files as one raster, on one grid.")  # fmt: skip
    linked: bool = option(
        "--linked", group="Result", is_flag=True,
        help="With --join: a small file (.stack.toml) that points to the parts and opens as one "
        "raster.",
    )  # fmt: skip
    names: str | None = words.names()
    roles: str | None = words.roles()
    notes: str | None = words.notes()
    where: str | None = words.where()
    mask: str | None = words.mask()
    compress: str | None = words.compress()
    planes: str | None = option(
        "--planes", group="Output", type=click.Choice(["chunky", "planar"]),
        help="TIFF: the bands of a pixel together, or each band by itself.",
    )  # fmt: skip
    over_frames: OverFrames | None = option(
        "--over-frames", group="Result", type=click.Choice(WAYS),
        help="Of a volume: one frame from all, voxel by voxel.",
    )  # fmt: skip
    interleave: Interleave | None = words.interleave()
    quality: int | None = option("--quality", group="Output", type=click.IntRange(1, 100),
                                 help="JPEG: 1 to 100.")  # fmt: skip
    preview: str | None = words.preview()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()

    def writing(self) -> dict[str, Any]:
        """Return what is said of how a file is written, as ``save`` takes it."""
        own = {name: value for name in ("compress", "planes", "interleave", "quality")
               if (value := getattr(self, name)) is not None}  # fmt: skip
        look = Look(limits=limits_given(self.limits)) if self.limits else None
        return {"dtype": self.type, "rescale": self.rescale, "look": look,
                "overwrite": self.overwrite, **own}  # fmt: skip

    def band_names(self) -> list[str] | None:
        """Return the bands or frames that are asked for; None for all."""
        return None if self.bands is None else [name.strip() for name in self.bands.split(",")]


def _formats() -> str:
    from spectrane.formats.table import formats_text

    return formats_text()


@command_of("export", ExportOptions, ending=_formats, examples=(
    "export demo/sound_8band.tif -o colours.tif --bands red,green,blue",
    "export demo/sound_8band.tif -o quick.png --bands 3,2,1 --type uint8 --rescale limits",
    "export demo/sound_8band.tif -o reflectance.tif --physical",
    "export demo/sound_8band.tif demo/sound_thermal.tif -o both.tif --join",
    "export demo/habitats.tif -o eelgrass.gpkg --classes eelgrass",
    "export demo/fetlock_ct -o joint.nii.gz",
))  # fmt: skip
def command(options: ExportOptions) -> None:
    """Write data to another file: in another format, order, type, unit, part, or on another grid.

    The ending of OUT names the format. The input is never changed. Volumes go to NIfTI (.nii,
    .nii.gz): --bands are frames, --grid-of is another volume, --where and --mask choose voxels.

    To .geojson and .gpkg go shapes: the areas of classes, exact along the pixels' edges, or those
    where --where is true.

    --join makes one raster of the bands of several files, on the grid of the finest pixels or of
    --grid-of; of volumes, one with all their frames.
    """
    if options.join:
        export_joined(options)
        return
    options.refuse(["linked", "names", "roles", "notes"], "without --join")
    if options.out_dir is None:
        options.refuse(["format"], "without --out-dir: the ending of OUT names the format")
    ending = ".tif" if options.format is None else "." + options.format.lstrip(".")
    places = targets(options.files, options.output, options.out_dir, ending)
    if options.preview and len(options.files) > 1:
        raise click.UsageError("--preview shows one export")
    if options.preview:
        check_target(options.preview, overwrite=options.overwrite)
    with answering(options) as answer:
        for_each(options.files, lambda file: _one(file, places[file], options, answer), answer)


def export_joined(options: ExportOptions) -> None:
    """Write the bands of all files as one raster, or a file that points to them."""
    from spectrane.cli.joining import join_files

    if options.output is None:
        raise click.UsageError("--join makes one file of all: say -o OUT")
    options.refuse(["out_dir", "format"], "with --join, which makes one file: say -o OUT")
    join_files(options, options.output)


def _one(file: str, target: str, options: ExportOptions, answer: Answer) -> None:
    from spectrane.cli.volume_parts import part_of_volume
    from spectrane.opening import open as open_any
    from spectrane.volume import Volume

    opening = options.opening(options.files.index(file), len(options.files))
    with (
        contextlib.ExitStack() as stack,
        open_any(file, **opening) as opened,
        progress_bar(target, options.quiet) as progress,
    ):
        if target.lower().endswith(ENDINGS) and not isinstance(opened, Volume):
            _areas(opened, file, target, options, answer)
            return
        options.refuse(["classes"], "except for shapes: -o OUT.geojson or OUT.gpkg")
        if isinstance(opened, Volume):
            part = part_of_volume(opened, options, stack)
            part.save(target, overwrite=options.overwrite, progress=progress)
        else:
            part = _part(opened, options)
            part.save(target, progress=progress, **options.writing())
        seen = [] if options.preview is None else [
            before_and_after(opened, part, target, options.preview, options.overwrite)
        ]  # fmt: skip
    facts = data_facts(target) | {"input": file, "preview": options.preview}
    answer.add(facts, data_line(facts), *seen)


def _areas(raster: Any, file: str, target: str, options: ExportOptions, answer: Answer) -> None:
    options.refuse_others(READ, "for shapes, which are the areas of classes or of --where")
    if options.where is not None:
        options.refuse(["classes", "bands"], "with --where, which says what is meant")
    facts, line = written_areas(
        options.part(options.computed(raster)), target, where=options.where,
        classes=options.classes, bands=options.band_names(), overwrite=options.overwrite,
    )  # fmt: skip
    answer.add(facts | {"input": file}, line)


def _part(raster: Any, options: ExportOptions) -> Any:
    options.refuse(["over_frames"], "of rasters: --compute takes bands")
    options.refuse(["where", "mask"], "of rasters: spectrane clip takes it")
    part = options.computed(raster)
    wanted = options.band_names()
    if wanted is not None:
        part = part.select(wanted)
    part = _regridded(options.part(part), options)
    return part.physical() if options.physical else part


def _regridded(part: Any, options: ExportOptions) -> Any:
    """Return the raster on the grid asked for, if one is."""
    from spectrane.opening import open_raster

    side = side_of(options.pixel_size)
    given = {"resample": options.resample, "force": options.force, "within": options.within}
    if options.grid_of:
        options.refuse(["crs", "pixel_size"], "with --grid-of, which is a grid already")
        with open_raster(options.grid_of) as other:
            return part.regrid(other.grid, **given)
    if options.crs or side is not None:
        return part.regrid(crs=options.crs, pixel_size=side, **given)
    options.refuse(["resample", "force", "within"],
                   "without another grid: --grid-of, --crs or --pixel-size")  # fmt: skip
    return part
