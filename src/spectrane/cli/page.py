"""``spectrane page``: layers as one HTML page, or as KML."""

from __future__ import annotations

import contextlib

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.files import required
from spectrane.cli.layering import LayerOptions, first_grid, layers_of, view_with
from spectrane.cli.options import command_of, option
from spectrane.cli.written import counted, file_facts, size_text
from spectrane.kernels.records import record


@record(frozen=True)
class PageOptions(LayerOptions):
    """What ``page`` takes."""

    output: str | None = words.output("The page (.html), or ground overlays (.kml, .kmz).")
    size: tuple[int, int] | None = words.size()
    title: str | None = words.title()
    no_values: bool = option("--no-values", group="Output", is_flag=True,
                             help="A smaller page, without values to read.")  # fmt: skip
    quad: bool = option("--quad", group="Output", is_flag=True,
                        help="KML: placed by four corners instead of a box.")  # fmt: skip
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("page", PageOptions, examples=(
    "page demo/sound_8band.tif demo/sound_thermal.tif -o sound.html --colormap auto --nodata 0 "
    "--outline demo/lease.geojson",
    "page demo/sound_8band.tif -o sound.kmz --channels natural --limits percentile:2,98 --nodata 0",
))  # fmt: skip
def command(options: PageOptions) -> None:
    """Make one self-contained page: layers to tick, fade, swipe and read values under.

    It needs no network and no program but a browser. KML and KMZ hold ground overlays.
    """
    from spectrane.display.outlines import Outline
    from spectrane.pages.kml import write_kml
    from spectrane.pages.page import overlay_page

    out = required(options.output)
    with answering(options) as answer, contextlib.ExitStack() as opened:
        layers, grid = layers_of(options, opened)
        view = options.view(first_grid(layers, grid))
        if out.lower().endswith((".kml", ".kmz")):
            options.refuse(["no_values"], "in KML, which has none")
            write_kml(layers, out, quad=options.quad, view=view_with(grid, view),
                      size=options.size, title=options.title,
                      overwrite=options.overwrite, area=options.covered)  # fmt: skip
        else:
            options.refuse(["quad"], "in a page, only in KML")
            overlay_page(layers, out, grid=grid, view=view, size=options.size,
                         title=options.title, values=not options.no_values,
                         overwrite=options.overwrite, area=options.covered)  # fmt: skip
        listed = [{"name": layer.title, "outlines": isinstance(layer, Outline)} for layer in layers]
        answer.add(
            file_facts(out) | {"title": options.title, "layers": listed},
            f"{out}: {counted(len(layers), 'layer')}, {size_text(out)}",
            *(f"  {text}" for text in options.echo()),
            *(f"  {one['name']}" for one in listed),
        )
