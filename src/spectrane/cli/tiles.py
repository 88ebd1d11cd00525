"""``spectrane tiles``: layers as web-map tiles."""

from __future__ import annotations

import contextlib

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.files import required
from spectrane.cli.layering import LayerOptions, first_grid, layers_of, view_with
from spectrane.cli.options import command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.cli.values import Numbers
from spectrane.cli.written import file_facts, size_text
from spectrane.kernels.records import record
from spectrane.pages.tile_matrices import SCHEMES, TileScheme


@record(frozen=True)
class TilesOptions(LayerOptions):
    """What ``tiles`` takes."""

    output: str | None = words.output("The folder.")
    scheme: TileScheme = option(
        "--scheme",
        group="Output",
        type=click.Choice(list(SCHEMES)),
        default="mercator",
        help="Web Mercator, or longitude and latitude.",
    )
    zooms: tuple[int, int] | None = option(
        "--zooms", group="Output", type=Numbers(2, "FIRST,LAST", kind=int),
        help="Zooms; those that fit if unsaid.",
    )  # fmt: skip
    title: str | None = words.title()
    attribution: str = option("--attribution", group="Output", default="",
                              help="Whom to name.", show_default=False)  # fmt: skip
    engine: str | None = words.engine()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("tiles", TilesOptions, examples=(
    "tiles demo/sound_8band.tif -o tiles --channels natural --limits percentile:2,98 --nodata 0",
    "tiles demo/sound_depth.tif -o depth --colormap auto --scheme geographic --zooms 9,11",
))  # fmt: skip
def command(options: TilesOptions) -> None:
    """Write layers as 256 x 256 PNG tiles, with TileJSON and WMTS capabilities beside them.

    Empty tiles are left out. A run that was killed goes on when it is given again.
    """
    from spectrane.pages.tiles import tiles

    output = required(options.output)
    if options.stored:
        raise click.UsageError("--stored is not used by tiles: they have their matrices' pixels")
    with (
        answering(options) as answer,
        contextlib.ExitStack() as opened,
        progress_bar(output, options.quiet) as progress,
    ):
        layers, grid = layers_of(options, opened)
        view = options.view(first_grid(layers, grid))
        done = tiles(
            layers, output, scheme=options.scheme, view=view_with(grid, view),
            zooms=options.zooms, title=options.title, attribution=options.attribution,
            overwrite=options.overwrite, engine=options.engine, progress=progress,
            area=options.covered,
        )  # fmt: skip
        answer.add(
            file_facts(output) | {
                "tiles": done.count, "zooms": done.zooms, "bounds": done.bounds,
                "scheme": options.scheme,
            },
            f"{output}: {done.count} tiles, zooms {done.zooms[0]} to {done.zooms[1]}, "
            f"{size_text(output)}",
            *(f"  {text}" for text in options.echo()),
        )  # fmt: skip
