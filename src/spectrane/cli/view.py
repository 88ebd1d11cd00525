"""``spectrane view``: see the picture while you change it, in a browser on this machine."""

from __future__ import annotations

import contextlib
import os
import shlex
from collections.abc import Sequence
from dataclasses import fields
from typing import TYPE_CHECKING, Any

import click

from spectrane.analysis.fills import nodata_text
from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.interrupts import Interrupted
from spectrane.cli.kept_layers import kept_tables
from spectrane.cli.layering import OF_LAYERS, OWN, LayerOptions, layers_of
from spectrane.cli.options import command_of, option
from spectrane.cli.slice_drawing import OF_A_MAP, anatomy, laid_layers, test_words
from spectrane.cli.slice_options import MapOptions
from spectrane.cli.values import NoData, with_fields
from spectrane.engine.freed_memory import keep_freed_memory
from spectrane.kernels import choice
from spectrane.kernels.records import record

if TYPE_CHECKING:
    from spectrane.viewing.opening import OpenedView, OpenedVolumes

_FREED = 128 << 20
"""Bytes of freed memory that wait for the next picture."""


@record(frozen=True)
class ViewOptions(MapOptions, LayerOptions):
    """What ``view`` takes."""

    frame: str = words.frame()

    port: int = option("--port", group="Running", type=click.IntRange(0, 65535), default=0,
                       help="The port on this machine; 0 takes a free one.")  # fmt: skip
    no_browser: bool = option("--no-browser", group="Running", is_flag=True,
                              help="Only tell the address.")  # fmt: skip
    save_to: str | None = option("--save-to", group="Output", type=click.Path(file_okay=False),
                                 help="Where pictures and looks may be saved.")  # fmt: skip
    points: str | None = words.points()
    points_crs: str | None = words.points_crs()
    library: str | None = option("--library", group="Layers", type=click.Path(),
                                 help="Spectra (.toml) that marks are compared with.")  # fmt: skip
    size: tuple[int, int] | None = words.size()


@command_of("view", ViewOptions, examples=(
    "view demo/sound_8band.tif --nodata 0 --channels natural --limits percentile:2,98",
    "view demo/sound_8band.tif demo/sound_thermal.tif --nodata 0 --colormap auto --save-to out",
    "view demo/fetlock.nii.gz --limits window:bone --map demo/fetlock_effect.nii.gz "
    "--measure change --threshold 'abs(t) >= 5'",
))  # fmt: skip
def command(options: ViewOptions) -> None:
    """See the picture while you change it: limits on the histogram, bands, colours, layers, place.

    Volumes open in three linked planes and a free one, with a map and labels laid over.

    A page opens in the browser, served on this machine alone. It leaves with the picture, the look
    kept with the file, and the command that makes it again. Ctrl-C ends it.
    """
    if choice.process_is_ours:
        keep_freed_memory(_FREED)
    with answering(options) as answer, contextlib.ExitStack() as opened:
        deep = not options.layers and bool(options.files) and _is_volume(options)
        view = _volumes(options, opened) if deep else _rasters(options, opened)
        opened.callback(view.close)
        answer.add({"url": view.url, "layers": len(view.layers)},
                   f"{view.url}", "  Ctrl-C ends it")  # fmt: skip
        if not options.no_browser:
            import webbrowser

            webbrowser.open(view.url)
        if options.as_json:
            click.echo(view.url, err=True)  # the document comes at the end
        with contextlib.suppress(Interrupted, KeyboardInterrupt):  # which is how it ends
            view.wait()


def _is_volume(options: ViewOptions) -> bool:
    """Tell whether the first file is a volume."""
    from spectrane.opening import open as open_any
    from spectrane.volume import Volume

    file, _ = with_fields(options.files[0], (*OWN, *OF_LAYERS))
    with open_any(file, **options.opening(0, len(options.files))) as opened:
        return isinstance(opened, Volume)


def _rasters(options: ViewOptions, opened: contextlib.ExitStack) -> OpenedView:
    from spectrane.analysis.spectra import Spectra
    from spectrane.viewing.opening import OpenedView

    of_volumes = ["map", "labels", "label_outlines", "show_labels", "frame", *OF_A_MAP]
    options.refuse(of_volumes, "by rasters: it is for volumes")
    layers, _ = layers_of(options, opened)
    library = None if options.library is None else Spectra.load(options.library)
    view = OpenedView(
        layers, _known(options, layers), port=options.port, save_to=options.save_to,
        library=library, points=[options.points] if options.points else [],
        points_crs=options.points_crs,
    )  # fmt: skip
    if options.size is not None:
        view.session.resize(*options.size)
    view.look_at(options.bounds(), options.center, options.area_crs)
    return view


_WITH_VOLUMES = frozenset((*(one.name for one in fields(MapOptions)), "files", "frame", "limits",
                           "colormap", "invert", "port", "no_browser", "save_to"))  # fmt: skip


def _volumes(options: ViewOptions, opened: contextlib.ExitStack) -> OpenedVolumes:
    """Open volumes, the first the lowest, with a map and labels laid over them."""
    from spectrane.opening import open_volume
    from spectrane.viewing.opening import OpenedVolumes
    from spectrane.viewing.volume_state import VolumeGiven

    options.refuse_others(_WITH_VOLUMES, "by volumes")
    known: list[VolumeGiven] = []
    for number, file in enumerate(options.files):
        given = options.opening(number, len(options.files))
        volume = opened.enter_context(open_volume(file, **given))
        said = [f"--{key}={value}" for key, value in given.items()
                if value is not None and (key, value) != ("damaged", "error")]  # fmt: skip
        known.append(VolumeGiven(anatomy(volume, options), os.path.abspath(file),
                                 "anatomy" if number == 0 else "beside", tuple(said)))  # fmt: skip
    laid = [role for role in ("map", "labels") if getattr(options, role)]
    for role, layer in zip(laid, laid_layers(options, opened), strict=True):
        file = os.path.abspath(getattr(options, role))
        known.append(VolumeGiven(layer, file, role, tuple(test_words(options))))
    return OpenedVolumes([one.layer for one in known], known, port=options.port,
                         save_to=options.save_to)  # fmt: skip


def _known(options: ViewOptions, layers: Sequence[Any]) -> list[tuple[Any, ...]]:
    """Return of each layer the file's path, the options that say which values it has, the same as
    Python, and its table in a layer file.
    """
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
