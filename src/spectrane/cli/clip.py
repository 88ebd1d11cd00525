"""``spectrane clip``: a part of a raster, by shapes, pixels, or what they hold."""

from __future__ import annotations

import contextlib
from functools import reduce
from operator import and_, or_
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, for_each
from spectrane.cli.files import OpeningOptions, read_shapes_given, targets
from spectrane.cli.looks import PartOptions
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.previews import before_and_after
from spectrane.cli.progress import progress_bar
from spectrane.cli.values import NoData, Range
from spectrane.cli.written import data_facts, data_line
from spectrane.kernels.records import record
from spectrane.model.addresses import has_ending
from spectrane.model.printing import share_text
from spectrane.model.whole_files import check_target
from spectrane.spatial.clipping import EXTENTS, KEEPS, ShapeEdge
from spectrane.spatial.masks import LEAVES


@record(frozen=True)
class ClipOptions(PartOptions, OpeningOptions):
    """What ``clip`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    output: str | None = words.output("The file; its ending names the format.")
    out_dir: str | None = words.out_dir()
    nodata: list[Any] | None = words.nodata()
    shape: str | None = option(
        "--shape",
        group="Place",
        type=click.Path(),
        help="Polygons (GeoJSON, GeoPackage), or a raster's footprint.",
    )
    shape_crs: str | None = option(
        "--shape-crs", group="Place", help="The system of --shape, where the file does not say it."
    )
    layer: str | None = words.layer("Place")
    keep: ShapeEdge = option(
        "--keep",
        group="Place",
        type=click.Choice(KEEPS),
        default="centers",
        help="Pixels whose centre lies inside, or that touch the shape.",
    )
    outside: bool = option("--outside", group="Place", is_flag=True,
                           help="Keep what lies outside the shape instead.")  # fmt: skip
    extent: str = option(
        "--extent", group="Place", type=click.Choice(EXTENTS), default="shape",
        help="The smallest rectangle that covers the shape, or the file's own.",
    )  # fmt: skip
    antialias: bool = option("--antialias", group="Place", is_flag=True,
                             help="For display: alpha by the share of each pixel.")  # fmt: skip
    soft: float = option("--soft", group="Place", type=float, default=0.0,
                         help="For display: alpha over so many pixels.")  # fmt: skip
    values: list[Any] | None = option(
        "--values", group="Mask", type=NoData(), help="Keep pixels of these values, or LOW..HIGH."
    )
    range: tuple[float | None, float | None] | None = option(
        "--range", group="Mask", type=Range(), help="Keep pixels in this range."
    )
    where: str | None = words.where()
    bits: str | None = words.bits()
    mask: str | None = words.mask()
    band: str | None = option(
        "--band", group="Mask",
        help="The band that values, range, bits and mask look at, of several.",
    )  # fmt: skip
    least_area: int | None = option("--least-area", group="Mask", type=click.IntRange(1),
                                    help="Leave out connected areas of fewer pixels.")  # fmt: skip
    grow: float = option("--grow", group="Mask", type=float, default=0.0,
                         help="Grow what is kept by pixels (below 0: shrink).")  # fmt: skip
    invert_mask: bool = option("--invert-mask", group="Mask", is_flag=True,
                               help="Keep what the mask does not choose.")  # fmt: skip
    mask_as: str = option("--mask-as", group="Mask", type=click.Choice([*LEAVES, "band"]),
                          default="nodata", help="What becomes of the mask.")  # fmt: skip
    compress: str | None = words.compress()
    preview: str | None = words.preview()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("clip", ClipOptions, examples=(
    "clip demo/sound_8band.tif -o bed.tif --shape demo/eelgrass.geojson --nodata 0",
    "clip demo/sound_8band.tif -o green.tif --where 'ndvi > 0.4' --least-area 50 --nodata 0",
))  # fmt: skip
def command(options: ClipOptions) -> None:
    """Keep a part of a raster; the rest is no-data (or transparent).

    Several ways together keep what all of them keep.
    """
    places = targets(options.files, options.output, options.out_dir, ".tif")
    with answering(options) as answer:
        for_each(options.files, lambda file: _one(file, places[file], options, answer), answer)


def _one(file: str, target: str, options: ClipOptions, answer: Answer) -> None:
    from spectrane.opening import open_raster

    check_target(target, overwrite=options.overwrite)
    if options.preview:
        if len(options.files) > 1:
            raise click.UsageError("--preview shows one clip")
        check_target(options.preview, overwrite=options.overwrite)
    opening = options.opening(options.files.index(file), len(options.files))
    with (
        contextlib.ExitStack() as stack,
        progress_bar(target, options.quiet) as progress,
    ):
        raster = stack.enter_context(open_raster(file, **opening))
        if options.nodata is not None:
            raster = raster.with_nodata(options.nodata)
        part, kept = _masked(raster, options, stack)
        part = _shaped(options.part(part), options, stack)
        own = {"compress": options.compress} if options.compress else {}
        part.save(target, overwrite=options.overwrite, progress=progress, **own)
        bounds = part.grid.bounds
        seen = [] if options.preview is None else [
            before_and_after(raster, part, target, options.preview, options.overwrite)
        ]  # fmt: skip
    facts = data_facts(target) | {"input": file, "bounds": bounds, "kept": kept}
    facts |= {"preview": options.preview}
    if kept == 0:
        answer.warn(f"{file}: the mask keeps no pixel; spectrane histogram {file} -o FILE.png "
                    "shows which values occur")  # fmt: skip
    share = [] if kept is None else [f"  the mask keeps {share_text(kept)} of the pixels"]
    answer.add(facts, data_line(facts), *share, *seen)


_OF_SHAPES = ("shape_crs", "layer", "keep", "antialias", "soft")


def _shaped(part: Any, options: ClipOptions, stack: contextlib.ExitStack) -> Any:
    """Return what lies in the shape, where one is given."""
    shape = options.shape
    if shape is None:
        options.refuse([*_OF_SHAPES, "outside", "extent"], "without --shape")
        return part
    if not has_ending(shape, ".json", ".geojson", ".gpkg"):
        options.refuse(_OF_SHAPES, "with a raster's footprint, only with shapes")
        from spectrane.opening import open_raster

        other = stack.enter_context(open_raster(shape))
        return part.clip(other, outside=options.outside, extent=options.extent)
    given = read_shapes_given(shape, options.layer, options.shape_crs, "shape_crs")
    return part.clip(given, keep=options.keep, outside=options.outside, extent=options.extent,
                     antialias=options.antialias, soft=options.soft)  # fmt: skip


def _masked(
    raster: Any, options: ClipOptions, stack: contextlib.ExitStack
) -> tuple[Any, float | None]:
    """Return the raster under the mask that the options make, if they make one, and what share of
    its pixels that keeps.
    """
    from spectrane.together import join_bands

    chosen = _tests(raster, options, stack)
    if not chosen:
        options.refuse(["grow", "least_area", "invert_mask", "mask_as"],
                       "without a mask: --values, --range, --where, --bits or --mask")  # fmt: skip
        return raster, None
    mask = reduce(and_, chosen)
    if options.invert_mask:
        mask = ~mask
    if options.least_area:
        mask = mask.areas(least=options.least_area)
    if options.grow:
        mask = mask.grow(options.grow)
    mask = mask.onto(raster)
    share = mask.share()
    if options.mask_as == "band":
        return join_bands([raster, mask]), share
    return raster.masked(mask, keep=options.mask_as), share


def _tests(raster: Any, options: ClipOptions, stack: contextlib.ExitStack) -> list[Any]:
    """Return the masks of all tests: of the mask file, on its own grid, if there is one."""
    from spectrane.masking import mask
    from spectrane.opening import open_raster

    tested, band = raster, options.band
    if options.mask is not None:
        tested = stack.enter_context(open_raster(options.mask))
    chosen = []
    if options.values is not None:
        single = [value for value in options.values if not isinstance(value, tuple)]
        tests = [mask(tested, range=value, band=band)
                 for value in options.values if isinstance(value, tuple)]  # fmt: skip
        tests += [mask(tested, values=single, band=band)] if single else []
        chosen.append(reduce(or_, tests))
    if options.range is not None:
        chosen.append(mask(tested, range=options.range, band=band))
    if options.bits is not None:
        chosen.append(mask(tested, bits=options.bits, band=band))
    if not chosen and options.where is not None:
        options.refuse(["band"], "by --where, which names its bands")
    if options.where is not None:
        chosen.append(mask(tested, where=options.where))
    if tested is not raster and not chosen:
        chosen.append(mask(_single(tested, band), where="band(1)"))
    elif not chosen:
        options.refuse(["band"], "without --values, --range, --bits or --mask")
    return chosen


def _single(tested: Any, band: str | None) -> Any:
    """Return the band of the mask file that is the mask, where it is valid and not 0."""
    if band is None and len(tested.bands) > 1:
        names = ", ".join(band.name for band in tested.bands[:12])
        raise click.UsageError(
            f"--mask: the file has {len(tested.bands)} bands; say with --band which one: {names}"
        )
    return tested if band is None else tested.select([band])
