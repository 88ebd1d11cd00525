"""``spectrane clip``: a part of a raster, by shapes, pixels, or what they hold."""

from __future__ import annotations

import contextlib
import json
import os
from typing import Any

import click

from spectrane.cli.common import (
    NoData,
    Numbers,
    ParamType,
    counted,
    examples,
    progress_bar,
    refuse,
    shared_options,
    told_warnings,
)
from spectrane.spatial.clipping import EXTENTS, KEEPS
from spectrane.spatial.masks import LEAVES, chosen_share, mask_on
from spectrane.spatial.shapes import shapes_of


class Range(ParamType):
    """``LOW..HIGH``, either of which may be left out."""

    name = "LOW..HIGH"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float | None, float | None]:
        """Read a range such as 0.2..0.9 or ..10."""
        if isinstance(value, tuple):
            return value
        low, dots, high = value.partition("..")
        try:
            ends = (float(low) if low else None, float(high) if high else None)
        except ValueError:
            ends = (None, None)
        if not dots or ends == (None, None):
            self.fail(f"{value!r} is not LOW..HIGH.", param, ctx)
        return ends


@click.command("clip")
@click.argument("file")
@click.argument("out")
@click.option("--shape", type=click.Path(),
              help="Polygons (GeoJSON, GeoPackage), or a raster's footprint.")  # fmt: skip
@click.option("--shape-crs", help="The system of --shape, where the file does not say it.")
@click.option("--layer", help="The layer of a GeoPackage with several.")
@click.option("--area", type=Numbers(4, "X1,Y1,X2,Y2"), help="Map bounds.")
@click.option("--area-crs", help="The system of --area, where it is not the raster's.")
@click.option("--rows", type=Numbers(2, "START,STOP"), help="Rows, from 0.")
@click.option("--columns", type=Numbers(2, "START,STOP"), help="Columns, from 0.")
@click.option("--keep", type=click.Choice(KEEPS), default="centers",
              help="Pixels whose centre lies inside, or that touch the shape.")  # fmt: skip
@click.option("--outside", is_flag=True, help="Keep what lies outside instead.")
@click.option("--extent", type=click.Choice(EXTENTS), default="shape",
              help="The smallest rectangle that covers the shape, or the file's own.")  # fmt: skip
@click.option("--antialias", is_flag=True, help="For display: alpha by the share of each pixel.")
@click.option("--soft", type=float, default=0.0, help="For display: alpha over so many pixels.")
@click.option("--values", type=NoData(), help="Keep pixels of these values, or LOW..HIGH.")
@click.option("--range", "value_range", type=Range(), help="Keep pixels in this range.")
@click.option("--where", help="Keep pixels where an expression is true: 'nir > 0.2'.")
@click.option("--bits", help="Keep pixels by quality bits: 'bits 3-4 = 2'.")
@click.option(
    "--mask",
    "mask_file",
    type=click.Path(),
    help="Keep pixels where this raster is true, or passes the tests, on its own grid.",
)
@click.option("--band", help="The band that values, range and bits look at, of several.")
@click.option("--least-area", type=click.IntRange(1), help="Leave out smaller connected areas.")
@click.option("--grow", type=float, default=0.0, help="Grow the mask by pixels (below 0: shrink).")
@click.option("--invert", is_flag=True, help="Keep what the mask does not choose.")
@click.option("--mask-as", type=click.Choice([*LEAVES, "band"]), default="nodata",
              help="What becomes of the mask.")  # fmt: skip
@click.option("--nodata", type=NoData(), help="Stored numbers that mean nothing, or none.")
@click.option("--compress", help="TIFF: deflate, zstd, lzw or none.")
@click.option("--overwrite", is_flag=True, help="Replace a file that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "clip demo/sound_8band.tif bed.tif --shape demo/eelgrass.geojson --nodata 0",
    "clip demo/sound_8band.tif green.tif --where 'ndvi > 0.4' --least-area 50 --nodata 0",
)
def command(file: str, out: str, **options: Any) -> None:
    """Keep a part of a raster; the rest is no-data (or transparent).

    Several ways together keep what all of them keep.
    """
    import spectrane.raster

    quiet = options["quiet"]
    with (
        told_warnings(quiet or options["as_json"]) as told,
        contextlib.ExitStack() as stack,
        progress_bar(out, quiet) as progress,
    ):
        raster = stack.enter_context(spectrane.raster.open(file))
        if options["nodata"] is not None:
            raster = raster.with_nodata(options["nodata"])
        part, kept = _masked(raster, options, stack)
        part = _cut(part, options, stack)
        own = {"compress": options["compress"]} if options["compress"] else {}
        part.save(out, overwrite=options["overwrite"], progress=progress, **own)
    count, rows, columns = part.shape
    if options["as_json"]:
        bounds = list(part.grid.bounds)
        click.echo(json.dumps({"output": out, "rows": rows, "columns": columns, "bands": count,
                               "bounds": bounds, "kept": kept, "told": told}))  # fmt: skip
    elif not quiet:
        share = "" if kept is None else f", the mask keeps {kept:.1%} of the pixels"
        click.echo(f"{out}: {columns} x {rows}, {counted(count, 'band')}{share}")


_OF_SHAPES = ("shape_crs", "layer", "keep", "antialias", "soft")


def _cut(part: Any, options: dict[str, Any], stack: contextlib.ExitStack) -> Any:
    rows, columns = (
        None if pair is None else (int(pair[0]), int(pair[1]))
        for pair in (options["rows"], options["columns"])
    )
    area = options["area"]
    if area is None:
        refuse(["area_crs"], "without --area")
    if area and options["area_crs"]:
        part, area = part.clip(area, crs=options["area_crs"]), None
    if area or rows or columns:
        part = part.crop(bounds=area, rows=rows, columns=columns)
    shape = options["shape"]
    if shape is None:
        refuse([*_OF_SHAPES, "outside", "extent"], "without --shape")
        return part
    if not os.fspath(shape).lower().endswith((".json", ".geojson", ".gpkg")):
        refuse(_OF_SHAPES, "with a raster's footprint, only with shapes")
        import spectrane.raster

        other = stack.enter_context(spectrane.raster.open(shape))
        return part.clip(other, outside=options["outside"], extent=options["extent"])
    given = shapes_of(shape, crs=options["shape_crs"], layer=options["layer"], option="shape_crs")
    return part.clip(
        given, keep=options["keep"], outside=options["outside"],
        extent=options["extent"], antialias=options["antialias"], soft=options["soft"],
    )  # fmt: skip


def _masked(
    raster: Any, options: dict[str, Any], stack: contextlib.ExitStack
) -> tuple[Any, float | None]:
    """Return the raster under the mask that the options make, if they make one, and what share of
    its pixels that keeps.
    """
    from functools import reduce
    from operator import and_

    from spectrane.masking import Mask

    chosen = _tests(raster, options, stack)
    if not chosen:
        refuse(["grow", "least_area", "invert", "mask_as"],
               "without a mask: --values, --range, --where, --bits or --mask")  # fmt: skip
        return raster, None
    mask = reduce(and_, chosen)
    if options["invert"]:
        mask = ~mask
    if options["least_area"]:
        mask = mask.areas(least=options["least_area"])
    if options["grow"]:
        mask = mask.grow(options["grow"])
    mask = Mask(mask_on(mask._source, raster._source))
    share = chosen_share(mask._source)
    if options["mask_as"] == "band":
        from spectrane.together import join_bands

        return join_bands([raster, mask]), share
    return raster.masked(mask, keep=options["mask_as"]), share


def _tests(raster: Any, options: dict[str, Any], stack: contextlib.ExitStack) -> list[Any]:
    """Return the masks of all tests: of the mask file, on its own grid, if there is one."""
    import spectrane.raster
    from spectrane.masking import Mask, mask

    tested, band = raster, options["band"]
    if options["mask_file"] is not None:
        tested = stack.enter_context(spectrane.raster.open(options["mask_file"]))
    chosen = []
    if options["values"] is not None:
        values = options["values"]
        single = [one for one in values if not isinstance(one, tuple)]
        tests = [mask(tested, range=one, band=band) for one in values if isinstance(one, tuple)]
        tests += [mask(tested, values=single, band=band)] if single else []
        joined = tests[0]
        for one in tests[1:]:
            joined = joined | one
        chosen.append(joined)
    if options["value_range"] is not None:
        chosen.append(mask(tested, range=options["value_range"], band=band))
    if options["where"] is not None:
        chosen.append(mask(tested, where=options["where"]))
    if options["bits"] is not None:
        chosen.append(mask(tested, bits=options["bits"], band=band))
    if tested is not raster and not chosen:
        chosen.append(Mask(mask_on(tested.select([band])._source if band else tested._source,
                                   raster._source)))  # fmt: skip
    elif band is not None and not chosen:
        raise click.UsageError("--band is for --values, --range, --bits and --mask")
    return chosen
