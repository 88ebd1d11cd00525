"""``spectrane view``: see the picture while you change it, in a browser on this machine."""

from __future__ import annotations

import contextlib
import os
import shlex
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import click

from spectrane.analysis.fills import nodata_text
from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.interrupts import Interrupted
from spectrane.cli.kept_layers import kept_tables
from spectrane.cli.layering import LayerOptions, layers_of
from spectrane.cli.options import command_of, option
from spectrane.cli.values import NoData, with_fields


@dataclass(frozen=True)
class ViewOptions(LayerOptions):
    """What ``view`` takes."""

    port: int = option("--port", group="Running", type=click.IntRange(0, 65535), default=0,
                       help="The port on this machine; 0 takes a free one.")  # fmt: skip
    no_browser: bool = option("--no-browser", group="Running", is_flag=True,
                              help="Only tell the address.")  # fmt: skip
    save_to: str | None = option("--save-to", group="Output", type=click.Path(file_okay=False),
                                 help="Where pictures and looks may be saved.")  # fmt: skip
    points: tuple[str, ...] = option(
        "--points", group="Place", type=click.Path(), multiple=True,
        help="Named points to go to: CSV, GeoJSON, or a GeoPackage; may be said again.",
    )  # fmt: skip
    points_crs: str | None = words.points_crs()
    library: str | None = option("--library", group="Layers", type=click.Path(),
                                 help="Spectra (.toml) that marks are compared with.")  # fmt: skip
    size: tuple[int, int] | None = words.size()


@command_of("view", ViewOptions, examples=(
    "view demo/sound_8band.tif --nodata 0 --channels natural --limits percentile:2,98",
    "view demo/sound_8band.tif demo/sound_thermal.tif --nodata 0 --colormap auto --save-to out",
))  # fmt: skip
def command(options: ViewOptions) -> None:
    """See the picture while you change it: limits on the histogram, bands, colours, layers, place.

    A page opens in the browser, served on this machine alone. It leaves with the picture, the look
    kept with the file, and the command that makes it again. Ctrl-C ends it.
    """
    from spectrane.analysis.spectra import Spectra
    from spectrane.viewing.opening import OpenedView

    with answering(options) as answer, contextlib.ExitStack() as opened:
        layers, _ = layers_of(options, opened)
        library = None if options.library is None else Spectra.load(options.library)
        view = OpenedView(
            layers, _known(options, layers), port=options.port, save_to=options.save_to,
            library=library, points=options.points, points_crs=options.points_crs,
        )  # fmt: skip
        bounds = options.bounds()
        if options.size is not None:
            view.session.resize(*options.size)
        view.look_at(bounds, options.center, options.area_crs)
        opened.callback(view.close)
        answer.add({"url": view.url, "layers": len(layers)},
                   f"{view.url}", "  Ctrl-C ends it")  # fmt: skip
        if not options.no_browser:
            import webbrowser

            webbrowser.open(view.url)
        if options.as_json:
            click.echo(view.url, err=True)  # the document comes at the end
        with contextlib.suppress(Interrupted, KeyboardInterrupt):  # which is how it ends
            view.wait()


def _known(options: ViewOptions, layers: Sequence[Any]) -> list[tuple[Any, ...]]:
    """Return of each layer the file's path, the options that say which values it has, the same as
    Python, and its table in a layer file.
    """
    from spectrane.cli.layering import OF_LAYERS, OWN

    tables, _ = kept_tables(options, layers, "here.toml")
    found: list[tuple[Any, ...]] = []
    for number, table in enumerate(tables):
        file = table.get("file")
        words, nodata = shlex.split(" ".join(options.value_words())), options.nodata
        if number < len(options.files):
            _, said = with_fields(options.files[number], (*OWN, *OF_LAYERS))
            if "nodata" in said:
                words = ["--nodata", said["nodata"], *words[2 * (options.nodata is not None) :]]
                nodata = NoData().convert(said["nodata"], None, None)
        elif options.layers is not None:
            given = table.get("nodata")
            nodata = None if given is None else given if isinstance(given, list) else [given]
            words = [] if nodata is None else ["--nodata", nodata_text(nodata)]
        more = set(table) & {"compute", "unit", "clip", "relief", "member"}
        code = "" if nodata is None else f".with_nodata({nodata!r})"
        code += f".compute({table['compute']!r})" if "compute" in table else ""
        code += f".convert({table['unit']!r})" if "unit" in table else ""
        path = None if file is None or (more and options.layers) or "relief" in table else (
            file if "://" in file else os.path.abspath(file))  # fmt: skip
        found.append((path, tuple(words), code, table))
    return found
