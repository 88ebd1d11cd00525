"""``spectrane page``: layers as one HTML page, or as KML."""

from __future__ import annotations

import contextlib
import os
from typing import Any

import click

from spectrane.cli.common import Size, counted, examples, refuse, shared_options, told_warnings
from spectrane.cli.layering import layer_options, layers_of, view_with
from spectrane.cli.looks import area_of, view_of


@click.command("page")
@click.argument("files", nargs=-1, metavar="[FILE...]")
@click.option("--output", "-o", type=click.Path(), required=True,
              help="The page (.html), or ground overlays (.kml, .kmz).")  # fmt: skip
@layer_options
@click.option("--size", type=Size(), help="Pixels that each layer has at most.")
@click.option("--title", help="The page's title.")
@click.option("--no-values", is_flag=True, help="A smaller page, without values to read.")
@click.option("--quad", is_flag=True, help="KML: placed by four corners instead of a box.")
@click.option("--overwrite", is_flag=True, help="Replace a file that exists.")
@shared_options
@examples(
    "page demo/sound_8band.tif demo/sound_thermal.tif -o sound.html --colormap auto --nodata 0 "
    "--outline demo/lease.geojson",
    "page demo/sound_8band.tif -o sound.kmz --channels natural --limits percentile:2,98 --nodata 0",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Make one self-contained page: layers to tick, fade, swipe and read values under.

    It needs no network and no program but a browser. KML and KMZ hold ground overlays.
    """
    from spectrane.pages.kml import write_kml
    from spectrane.pages.page import overlay_page

    out = options["output"]
    view = view_of(options)
    with told_warnings(options["quiet"]), contextlib.ExitStack() as opened:
        layers, grid = layers_of(files, options, opened)
        if out.lower().endswith((".kml", ".kmz")):
            refuse(["no_values"], "in KML, which has none")
            write_kml(layers, out, quad=options["quad"], view=view_with(grid, view),
                      size=options["size"], title=options["title"],
                      overwrite=options["overwrite"], area=area_of(options))  # fmt: skip
        else:
            refuse(["quad"], "in a page, only in KML")
            overlay_page(layers, out, grid=grid, view=view, size=options["size"],
                         title=options["title"], values=not options["no_values"],
                         overwrite=options["overwrite"], area=area_of(options))  # fmt: skip
    if not options["quiet"]:
        click.echo(f"{out}: {counted(len(layers), 'layer')}, {os.path.getsize(out) / 1e6:.1f} MB")
