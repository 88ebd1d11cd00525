"""``spectrane mosaic``: many rasters as one file."""

from __future__ import annotations

import contextlib
import json
from typing import Any

import click

from spectrane.cli.common import (
    NoData,
    counted,
    examples,
    force_option,
    progress_bar,
    shared_options,
    told_warnings,
)
from spectrane.model.look import NODATA_WHEN
from spectrane.model.resampling import RESAMPLINGS
from spectrane.model.whole_files import check_target, written_whole
from spectrane.spatial.aligning import KINDS
from spectrane.spatial.grids import suggested, union
from spectrane.spatial.mosaics.balancing import BALANCES
from spectrane.spatial.mosaics.composing import RULES


@click.command("mosaic")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--output", "-o", type=click.Path(), required=True, help="The file to write.")
@click.option("--rule", type=click.Choice(RULES), default="top",
              help="What is taken where files lie on one another.")  # fmt: skip
@click.option("--width", type=float, help="Pixels over which feather and seam fade.")
@click.option("--balance", type=click.Choice(BALANCES),
              help="Even out brightness over the overlaps.")  # fmt: skip
@click.option(
    "--reference", type=click.IntRange(1), default=1, help="Histogram: the file to match."
)
@click.option("--order", help="What lies on top: argument, date, cloud, distance:X,Y.")
@click.option("--align", type=click.Choice(KINDS), help="Move each onto the others.")
@click.option("--nodata", type=NoData(), help="Stored numbers that mean nothing, or none.")
@click.option("--nodata-when", type=click.Choice(NODATA_WHEN), help="In any band, or in all.")
@click.option("--trim", type=float, default=0.0, help="Take so many pixels off each valid edge.")
@click.option("--grid-of", type=click.Path(), help="Onto the grid of this file.")
@click.option("--crs", help="Onto a grid in this system: EPSG:CODE.")
@click.option("--pixel-size", type=float, help="Of the grid in --crs, or in the first file's.")
@click.option("--resample", type=click.Choice(RESAMPLINGS), help="Where grids differ.")
@force_option
@click.option("--compress", default="deflate", help="deflate, zstd, lzw or none.")
@click.option("--table", type=click.Path(), help="Write the overlaps as CSV.")
@click.option("--engine", help="threads, or a cluster's address such as tcp://10.0.0.1:8786.")
@click.option("--overwrite", is_flag=True, help="Replace a file that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "mosaic demo/sound_north.tif demo/sound_south.tif -o sound.tif --nodata 0 --nodata-when all "
    "--trim 1 --align shift --balance gain --rule feather",
    "mosaic demo/sound_north.tif demo/sound_south.tif -o seam.tif --nodata 0 --nodata-when all "
    "--rule seam --table overlaps.csv",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Join rasters into one tiled TIFF with overviews, each on top of the one before.

    Grids, systems, band orders and types may differ. A run that was killed goes on from what it
    finished when it is given again.
    """
    import spectrane.raster
    from spectrane.together import mosaic, overlaps

    quiet = options["quiet"]
    check_target(options["output"], overwrite=options["overwrite"])
    with (
        told_warnings(quiet or options["as_json"]) as told,
        contextlib.ExitStack() as stack,
        progress_bar(options["output"], quiet) as progress,
    ):
        rasters = [stack.enter_context(spectrane.raster.open(file)) for file in files]
        joined = mosaic(
            rasters, rule=options["rule"], width=options["width"], balance=options["balance"],
            reference=options["reference"], grid=_grid(rasters, options, stack),
            resample=options["resample"], order=options["order"], nodata=options["nodata"],
            nodata_when=options["nodata_when"], trim=options["trim"], align=options["align"],
            force=options["force"],
        )  # fmt: skip
        wanted = options["balance"] or options["table"] or options["as_json"]
        rows = overlaps(joined) if wanted else None
        joined.save(
            options["output"], compress=options["compress"], engine=options["engine"],
            overwrite=options["overwrite"], resume=True, progress=progress,
        )  # fmt: skip
        if options["table"] and rows is not None:
            _write_table(rows, options)
    _tell(joined, rows, told, options)


def _grid(rasters: list[Any], options: dict[str, Any], stack: contextlib.ExitStack) -> Any:
    """Return the grid asked for: that of a file, or one that covers all rasters in a system."""
    import spectrane.raster

    if options["grid_of"] is not None:
        if options["crs"] or options["pixel_size"]:
            raise click.UsageError("--grid-of is a grid already; leave out --crs and --pixel-size")
        return stack.enter_context(spectrane.raster.open(options["grid_of"])).grid
    if options["crs"] is None and options["pixel_size"] is None:
        return None
    crs = options["crs"] or rasters[0].grid.crs_text
    each = [suggested(raster.grid, crs, options["pixel_size"]) for raster in rasters]
    return union(each, each[0])


def _write_table(rows: Any, options: dict[str, Any]) -> None:
    with written_whole(options["table"], overwrite=options["overwrite"]) as file:
        file.write(rows.to_csv(index=False).encode())


def _tell(joined: Any, rows: Any, told: list[str], options: dict[str, Any]) -> None:
    count, height, width = joined.shape
    moved = joined.metadata.get("alignment", [])
    if options["as_json"]:
        table = [] if rows is None else json.loads(rows.to_json(orient="records"))
        click.echo(json.dumps({
            "output": options["output"], "rows": height, "columns": width, "bands": count,
            "overlaps": table, "alignment": moved, "told": told,
        }))  # fmt: skip
        return
    if options["quiet"]:
        return
    click.echo(f"{options['output']}: {width} x {height}, {counted(count, 'band')}")
    for one in moved:
        click.echo(
            f"  {one['raster']} onto {one['to']}: {one['columns']:+.2f} columns, "
            f"{one['rows']:+.2f} rows, correlation {one['certainty']:.2f}"
            + ("" if one["taken out"] else " (not taken out)")
        )
    if rows is None or rows.empty:
        return
    click.echo(f"  {'overlap':<36}{'band':<10}{'pixels':>10}{'before':>10}{'after':>10}")
    for one in rows.head(20).to_dict("records"):
        after = f"{one['after']:>10.3g}" if "after" in one else ""
        pair = f"{one['first']} {one['second']}"
        click.echo(f"  {pair:<36}{one['band']:<10}{one['pixels']:>10}{one['before']:>10.3g}{after}")
    if len(rows) > 20:
        click.echo(f"  and {len(rows) - 20} more; --table writes all")
