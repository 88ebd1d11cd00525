"""``spectrane compare``: panels side by side over the same area."""

from __future__ import annotations

import contextlib
import shlex
from dataclasses import replace
from typing import Any, cast

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.common_limits import CommonLimitsOptions
from spectrane.cli.files import OpeningOptions, required
from spectrane.cli.layering import fitting, looks_given
from spectrane.cli.looks import AreaOptions, limits_given
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.written import counted, drawn_facts, file_facts, size_text
from spectrane.display.linked import MODES
from spectrane.kernels.records import record
from spectrane.model.asking import BarSide
from spectrane.model.errors import LookError
from spectrane.model.look import Look
from spectrane.model.whole_files import check_target

MOVING = "moving"


@record(frozen=True)
class CompareOptions(CommonLimitsOptions, AreaOptions, OpeningOptions):
    """What ``compare`` takes."""

    files: tuple[str, ...] = argument("A [B]...", many=True, required=True)
    output: str | None = words.output("The figure: .png, .pdf or .svg.")
    with_look: tuple[str, ...] = words.with_look()
    vary: tuple[str, ...] = option(
        "--vary", group="Layers", multiple=True, metavar="FIELD=VALUE",
        help="One file: a panel for each, such as curve=sqrt.",
    )  # fmt: skip
    suggest: bool = option("--suggest", group="Layers", is_flag=True,
                           help="One file: looks that fit it, and their options.")  # fmt: skip
    histograms: bool = option("--histograms", group="Output", is_flag=True,
                              help="Histograms below the panels.")  # fmt: skip
    mode: str = option(
        "--mode", group="Layers", type=click.Choice([*MODES, MOVING]), default="panels",
        help="Two rasters may be mixed in one panel instead; dated ones may be moving, one after "
        "another.",
    )  # fmt: skip
    pace: int = words.pace(800)
    size: tuple[int, int] = words.size((800, 1280))
    bar: BarSide | None = words.bar()
    caption: str | None = words.caption()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("compare", CompareOptions, examples=(
    "compare demo/sound_8band.tif --vary channels=natural --vary channels=infrared --nodata 0 "
    "--limits percentile:2,98 -o both.png",
    "compare demo/sound_8band.tif demo/sound_thermal.tif --colormap auto --mode swipe -o two.png",
    "compare demo/sound_8band.tif --suggest -o suggested.png",
))  # fmt: skip
def command(options: CompareOptions) -> None:
    """Show 2 to 6 panels over the same area: one file in several looks, or several files.

    Files with different grids are linked by map position; the area is the first one's. Of one
    file, --with-look makes a panel for each look.
    """
    output = required(options.output)
    if options.mode != MOVING:
        options.refuse(["pace"], "without --mode moving")
    if options.suggest:
        _suggest(output, options)
    elif options.mode == MOVING:
        _move(output, options)
    else:
        _compare(output, options)


def _compare(output: str, options: CompareOptions) -> None:
    from spectrane.display.common_limits import one_rule
    from spectrane.figures.compare import compare
    from spectrane.figures.paper import save_figure
    from spectrane.model.source import source_of

    fields = options.look_fields()
    check_target(output, overwrite=options.overwrite)
    with answering(options) as answer, contextlib.ExitStack() as opened:
        rasters = _opened(options, opened)
        view = options.view(rasters[0].grid)
        layers = _layers(rasters, fields, options)
        drawn = [raster for raster, _ in layers]
        looks = options.with_limits(drawn, [look for _, look in layers], opened)
        layers = list(zip(drawn, looks, strict=True))
        _, note = one_rule([(source_of(raster), look) for raster, look in layers])
        figure = compare(layers, view=view, size=options.size, histograms=options.histograms,
                         mode=cast("Any", options.mode), bar=options.bar,
                         caption=_caption(options, rasters[0]))  # fmt: skip
        save_figure(figure, output, overwrite=options.overwrite)
        panels = [{"source": one.source, "look": look.to_dict()} for one, look in layers]
        columns, rows = (round(side * figure.dpi) for side in figure.get_size_inches())
        answer.add(
            file_facts(output) | {
                "inputs": options.files, "rows": rows, "columns": columns, "mode": options.mode,
                "panels": panels, "limits_of": options.limits_of(), "note": note,
            },
            f"{output}: {columns} x {rows}, {counted(len(layers), 'panel')} at the same place, "
            f"{size_text(output)}",
            *([] if note is None else [f"  {note}"]), *(f"  {text}" for text in options.echo()),
        )  # fmt: skip


def _opened(options: CompareOptions, stack: contextlib.ExitStack) -> list[Any]:
    """Return the files' rasters as they are to be shown, open as long as the stack is."""
    from spectrane.opening import open_raster

    count = len(options.files)
    rasters = []
    for k, file in enumerate(options.files):
        raster = stack.enter_context(open_raster(file, **options.opening(k, count)))
        rasters.append(options.computed(raster, among=count))
    return rasters


def _caption(options: CompareOptions, raster: Any) -> str | None:
    return words.filled(options.caption, raster.metadata, raster.title)


def _move(output: str, options: CompareOptions) -> None:
    """Draw dated files as one moving picture, between limits of all."""
    from spectrane.measuring import moving_picture

    options.refuse(["bar", "histograms", "vary", "with_look", "limits_like", "limits_without",
                    "bits"], "with --mode moving")  # fmt: skip
    _ = options.shared_scenes  # as it is anyway
    fields = options.look_fields()
    with answering(options) as answer, contextlib.ExitStack() as opened:
        rasters = _opened(options, opened)
        look = options.look_for(rasters[0], fields)
        view = options.view(rasters[0].grid)
        given: dict[str, Any] = {} if options.caption is None else {"caption": options.caption}
        moving_picture(rasters, output, look, view=view, size=options.size,
                       milliseconds=options.pace, overwrite=options.overwrite, **given)  # fmt: skip
        facts = drawn_facts(output)
        answer.add(
            facts | {
                "inputs": options.files, "mode": MOVING, "panels": [], "limits_of": "all",
                "note": None,
            },
            f"{output}: {facts['columns']} x {facts['rows']}, {counted(len(rasters), 'frame')} in "
            f"order of their dates, {size_text(output)}",
        )  # fmt: skip


_WITH_SUGGEST = ("suggest", "nodata", "compute", "unit", "area", "area_crs", "row_range",
                 "column_range", "center", "pixel_size", "stored", "size", "bar",
                 "caption")  # fmt: skip


def _suggest(output: str, options: CompareOptions) -> None:
    """Draw looks that fit a file, and tell the options that give each."""
    from spectrane.figures.paper import save_figure
    from spectrane.figures.suggestions import suggestions
    from spectrane.looking import suggest_looks
    from spectrane.opening import open_raster

    options.refuse_others(_WITH_SUGGEST, "with --suggest, which finds looks by itself")
    if len(options.files) != 1:
        raise click.UsageError(f"--suggest is for one file, not {len(options.files)}")
    file = options.files[0]
    check_target(output, overwrite=options.overwrite)
    with answering(options) as answer, open_raster(file, **options.opening()) as raster:
        shown = options.computed(raster)
        found = suggest_looks(shown)
        view = options.view(shown.grid)
        caption = _caption(options, raster)
        figure = suggestions(shown, view=view, size=options.size, bar=options.bar, caption=caption,
                             found=found)  # fmt: skip
        save_figure(figure, output, overwrite=options.overwrite)
        columns, rows = (round(side * figure.dpi) for side in figure.get_size_inches())
        given = [" ".join([*options.value_words(), one.options]).strip() for one in found]
        panels = [{"title": one.title, "options": text, "look": one.look.to_dict()}
                  for one, text in zip(found, given, strict=True)]  # fmt: skip
        answer.add(
            file_facts(output) | {
                "inputs": options.files, "rows": rows, "columns": columns, "mode": "suggest",
                "panels": panels, "limits_of": "each", "note": None,
            },
            f"{output}: {columns} x {rows}, {counted(len(found), 'look')} that may fit, "
            f"{size_text(output)}",
            *(line for one, text in zip(found, given, strict=True)
              for line in (f"  {one.title}", f"    spectrane render {shlex.quote(file)} {text}")),
        )  # fmt: skip


def _layers(
    rasters: list[Any], fields: dict[str, Any], options: CompareOptions
) -> list[tuple[Any, Look]]:
    looks = looks_given(options.with_look, options.look, len(rasters))
    if options.vary:
        if len(rasters) > 1 or looks:
            raise click.UsageError("--vary is for one file, and without --look and --with-look")
        return [(rasters[0], _varied(fields, text)) for text in options.vary]
    if len(rasters) == 1 and len(looks) > 1:
        return [(rasters[0], replace(look, **fields)) for look in looks]
    if looks and len(looks) != len(rasters):
        raise click.UsageError(f"{len(looks)} look files for {len(rasters)} rasters")
    kept = looks or [raster.look or Look() for raster in rasters]
    return [(raster, fitting(raster, replace(look, **fields)))
            for raster, look in zip(rasters, kept, strict=True)]  # fmt: skip


def _varied(base: dict[str, Any], text: str) -> Look:
    name, equals, value = text.partition("=")
    name = name.strip().replace("-", "_")
    try:
        if not equals:
            raise LookError(f"--vary {text!r}: expected FIELD=VALUE")
        return Look.from_dict({**base, name: _field(name, value.strip())})
    except (LookError, ValueError) as error:
        raise click.UsageError(str(error)) from error


def _field(name: str, value: str) -> Any:
    """Return a field of a look, as ``from_dict`` takes it."""
    if name == "limits":
        return limits_given([value])
    if name in ("invert", "shared", "exact"):
        return value.lower() in ("true", "yes", "1")
    if name in ("brightness", "contrast", "saturation", "local_contrast"):
        return float(value)
    if name == "sharpen":
        return [float(one) for one in value.split(",")]
    return value
