"""``spectrane tiles``: layers as web-map tiles."""

from __future__ import annotations

import contextlib
import json
from typing import Any

import click

from spectrane.cli.common import Numbers, examples, progress_bar, shared_options, told_warnings
from spectrane.cli.layering import layer_options, layers_of, view_with
from spectrane.cli.looks import area_of, view_of
from spectrane.pages.tile_matrices import SCHEMES
from spectrane.pages.tiles import tiles


@click.command("tiles")
@click.argument("files", nargs=-1, metavar="[FILE...]")
@click.option("--output", "-o", type=click.Path(), required=True, help="The folder to write.")
@layer_options
@click.option("--scheme", type=click.Choice(list(SCHEMES)), default="mercator",
              help="Web Mercator, or longitude and latitude.")  # fmt: skip
@click.option("--zooms", type=Numbers(2, "FIRST,LAST"), help="Zooms; those that fit if unsaid.")
@click.option("--title", help="What the tiles show.")
@click.option("--attribution", default="", help="Whom to name.")
@click.option("--engine", help="threads, or a cluster's address.")
@click.option("--overwrite", is_flag=True, help="Write into a folder that holds other files.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "tiles demo/sound_8band.tif -o tiles --channels natural --limits percentile:2,98 --nodata 0",
    "tiles demo/sound_depth.tif -o depth --colormap auto --scheme geographic --zooms 9,11",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Write layers as 256 x 256 PNG tiles, with TileJSON and WMTS capabilities beside them.

    Empty tiles are left out. A run that was killed goes on when it is given again.
    """
    quiet, zooms = options["quiet"], options["zooms"]
    if options["stored"]:
        raise click.UsageError("--stored: tiles have the pixels of their matrices")
    with (
        told_warnings(quiet or options["as_json"]) as told,
        contextlib.ExitStack() as opened,
        progress_bar(options["output"], quiet) as progress,
    ):
        layers, grid = layers_of(files, options, opened)
        view = view_with(grid, view_of(options))
        done = tiles(
            layers, options["output"], scheme=options["scheme"], view=view,
            zooms=None if zooms is None else (int(zooms[0]), int(zooms[1])),
            title=options["title"], attribution=options["attribution"],
            overwrite=options["overwrite"], engine=options["engine"], progress=progress,
            area=area_of(options),
        )  # fmt: skip
    if options["as_json"]:
        facts = {"folder": options["output"], "tiles": done.count, "zooms": done.zooms,
                 "bounds": done.bounds, "told": told}  # fmt: skip
        click.echo(json.dumps(facts))
    elif not quiet:
        click.echo(f"{options['output']}: {done.count} tiles, zooms {done.zooms[0]} to "
                   f"{done.zooms[1]}")  # fmt: skip
