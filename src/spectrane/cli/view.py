"""``spectrane view``: see the picture while you change it, in a browser on this machine."""

from __future__ import annotations

import contextlib
import os
from dataclasses import dataclass

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.interrupts import Interrupted
from spectrane.cli.layering import LayerOptions, layers_of
from spectrane.cli.options import command_of, option
from spectrane.cli.values import with_fields


@dataclass(frozen=True)
class ViewOptions(LayerOptions):
    """What ``view`` takes."""

    port: int = option("--port", group="Running", type=click.IntRange(0, 65535), default=0,
                       help="The port on this machine; 0 takes a free one.")  # fmt: skip
    no_browser: bool = option("--no-browser", group="Running", is_flag=True,
                              help="Only tell the address.")  # fmt: skip
    save_to: str | None = option("--save-to", group="Output", type=click.Path(file_okay=False),
                                 help="Where pictures and looks may be saved.")  # fmt: skip
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
    from spectrane.viewing.opening import OpenedView

    with answering(options) as answer, contextlib.ExitStack() as opened:
        layers, _ = layers_of(options, opened)
        files = [_known(text, options) for text in options.files]
        view = OpenedView(layers, files, port=options.port, save_to=options.save_to)
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


def _known(text: str, options: ViewOptions) -> tuple[str, tuple[str, ...], str]:
    """Return a file's path, the options that say which values it has, and the same as Python."""
    from spectrane.cli.layering import OF_LAYERS, OWN

    file, said = with_fields(text, (*OWN, *OF_LAYERS))
    given = list(options.value_words())
    if "nodata" in said:
        given = ["--nodata", said["nodata"]]
    code = "" if options.nodata is None else f".with_nodata({options.nodata!r})"
    return os.path.abspath(file), tuple(given), code
