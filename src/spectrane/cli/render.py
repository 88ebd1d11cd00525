"""``spectrane render``: rasters to pictures."""

from __future__ import annotations

import contextlib
import time
from dataclasses import asdict
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, for_each
from spectrane.cli.common_limits import CommonLimitsOptions
from spectrane.cli.files import OpeningOptions, targets
from spectrane.cli.looks import AreaOptions
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.cli.written import drawn_facts, size_text
from spectrane.display.picture import check_picture_name
from spectrane.kernels.records import record
from spectrane.model.addresses import amend_command
from spectrane.model.asking import BarSide
from spectrane.model.errors import SpectraneError
from spectrane.model.look import Look
from spectrane.model.whole_files import check_target


@record(frozen=True)
class RenderOptions(CommonLimitsOptions, AreaOptions, OpeningOptions):
    """What ``render`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    output: str | None = words.output("The picture (.png).")
    out_dir: str | None = words.out_dir()
    size: tuple[int, int] | None = words.size()
    bit_depth: str = option("--bit-depth", group="Output", type=click.Choice(["8", "16"]),
                            default="8", help="Bits per channel of the picture.")  # fmt: skip
    save_look: str | None = option("--save-look", group="Output", type=click.Path(),
                                   help="Keep the look in a file (.look.toml).")  # fmt: skip
    legend: str | None = option("--legend", group="Output", type=click.Path(),
                                help="The legend as a figure of its own (.png).")  # fmt: skip
    bar: BarSide | None = words.bar()
    caption: str | None = words.caption()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("render", RenderOptions, examples=(
    "render demo/sound_8band.tif --nodata 0 -o natural.png",
    "render demo/sound_8band.tif --channels infrared --limits percentile:2,98 -o infrared.png",
    "render demo/sound_depth.tif --colormap kiln --bar right --caption 'Depth' -o depth.png",
    "render --colormap list -o colormaps.png",
))  # fmt: skip
def command(options: RenderOptions) -> None:
    """Draw rasters as pictures; the data stay as they are.

    All of a raster is drawn, in 2048x2048 pixels at most, unless --size or a place say otherwise.
    """
    places = targets(options.files, options.output, options.out_dir, ".png")
    fields = options.look_fields()
    if options.legend and len(options.files) > 1:
        raise click.UsageError("--legend shows one picture")
    if options.save_look:
        check_target(options.save_look, overwrite=options.overwrite)
    with answering(options) as answer:
        looks = _shared_looks(fields, options) if options.limits_of() == "all" else {}
        for_each(
            options.files,
            lambda file: _draw(file, places[file], fields, looks, options, answer), answer,
        )  # fmt: skip
        if len(options.files) > 1:
            answer.say(_WHOSE.get(options.limits_of(), f"limits: those of {options.limits_like}"))


_WHOSE = {
    "each": "limits: each file's own; --shared-scenes finds them in all files together, "
            "--limits-like FILE in one",
    "all": "limits: found in all files together",
}  # fmt: skip


def _shared_looks(fields: dict[str, Any], options: RenderOptions) -> dict[str, Look]:
    """Return the look of each file with the limits of all; those that fail are told in turn."""
    from spectrane.opening import open_raster

    named, rasters, looks = [], [], []
    with contextlib.ExitStack() as stack:
        for number, file in enumerate(options.files):
            with contextlib.suppress(SpectraneError, OSError):
                opening = options.opening(number, len(options.files))
                raster = options.computed(stack.enter_context(open_raster(file, **opening)))
                looks.append(options.look_for(raster, fields))
                rasters.append(raster)
                named.append(file)
        return dict(zip(named, options.with_limits(rasters, looks, stack), strict=True))


def _draw(
    file: str, target: str, fields: dict[str, Any], looks: dict[str, Look],
    options: RenderOptions, answer: Answer,
) -> None:  # fmt: skip
    from spectrane.looking import render
    from spectrane.opening import open_raster

    number = options.files.index(file)
    check_picture_name(target)
    check_target(target, overwrite=options.overwrite)
    opening = options.opening(number, len(options.files))
    with progress_bar(file, options.quiet), open_raster(file, **opening) as raster:
        shown = options.computed(raster)
        look = looks.get(file) or options.look_for(shown, fields)
        with contextlib.ExitStack() as stack:
            look = look if looks else options.with_limits([shown], [look], stack)[0]
        begun = time.perf_counter()
        picture = render(shown, look, view=options.view(shown.grid, options.size))
        seconds = time.perf_counter() - begun
        picture.save(
            target, bits=int(options.bit_depth), bar=options.bar,
            caption=words.filled(options.caption, raster.metadata, raster.title),
            overwrite=options.overwrite,
        )  # fmt: skip
        kept = options.save_look if number == 0 else None
        if kept:
            look.save(kept, overwrite=options.overwrite)
        if options.legend:
            from spectrane.figures.colorbar import colorbar
            from spectrane.figures.paper import save_figure

            save_figure(colorbar(picture), options.legend, overwrite=options.overwrite)
    _tell(picture, file, target, kept, options, answer)
    if seconds > _SLOW and not raster.overviews:
        answer.say(f"  took {seconds:.0f} s; all views are quick after: "
                   + amend_command(file, "--overviews"))  # fmt: skip


_SLOW = 2.0
"""Seconds after which overviews are suggested."""


def _tell(
    picture: Any, file: str, target: str, kept: str | None, options: RenderOptions, answer: Answer
) -> None:
    facts = drawn_facts(target)
    beside = [what for what, said in (("key", options.bar), ("caption", options.caption)) if said]
    more = f", and its {' and '.join(beside)}" if beside else ""
    lines = [f"{target}: {facts['columns']} x {facts['rows']}{more}, {size_text(target)}"]
    notes = [*picture.notes, *options.echo()]
    lines += [f"  {note}" for note in notes]
    lines += [f"  {name:<5} = {scale}"
              for name, scale in zip(picture.channels, picture.scales, strict=False)]  # fmt: skip
    lines += [f"{one}: {what}" for one, what in ((options.legend, "the legend"), (kept, "the look"))
              if one]  # fmt: skip
    answer.add(
        facts | {
            "input": file, "bit_depth": int(options.bit_depth),
            "bounds": picture.grid.bounds, "scales": [asdict(scale) for scale in picture.scales],
            "notes": notes, "legend": options.legend, "look": kept,
            "limits_of": options.limits_of(),
        },
        *lines,
    )  # fmt: skip
