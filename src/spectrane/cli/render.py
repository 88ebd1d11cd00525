"""``spectrane render``: rasters to pictures."""

from __future__ import annotations

import json
import os
import re
from collections.abc import Sequence
from typing import Any

import click

from spectrane.cli.common import (
    NoData,
    Numbers,
    Size,
    examples,
    for_each,
    progress_bar,
    shared_options,
    told_warnings,
)

_LIMITS_HELP = (
    "Where black and white lie: auto, type, minmax, percentile:2,98, deviation:2, "
    "fixed:LOW,HIGH or LOW,HIGH. Once, or once per channel."
)


@click.command("render")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--output", "-o", type=click.Path(), help="The picture to write (.png).")
@click.option("--out-dir", type=click.Path(), help="A folder for one picture per file.")
@click.option("--channels", help="Bands to show: natural, infrared, shortwave, 1, or 4,3,2.")
@click.option("--limits", multiple=True, help=_LIMITS_HELP)
@click.option("--shared", is_flag=True, help="One pair of limits for all channels.")
@click.option("--limits-from", type=click.Choice(["image", "view"]), help="What limits look at.")
@click.option("--exact", is_flag=True, help="Limits from every pixel, however many.")
@click.option("--curve", help="How levels grow between the limits: linear.")
@click.option("--invert", is_flag=True, help="A negative.")
@click.option("--nodata", type=NoData(), help="Stored numbers to leave out, or none.")
@click.option("--nodata-when", type=click.Choice(["any", "all"]), help="Hidden where any or all.")
@click.option("--nodata-color", metavar="#RRGGBB", help="Paint what is hidden.")
@click.option("--area", type=Numbers(4, "X1,Y1,X2,Y2"), help="Map bounds to draw.")
@click.option("--rows", type=Numbers(2, "START,STOP"), help="Rows to draw, from 0.")
@click.option("--columns", type=Numbers(2, "START,STOP"), help="Columns to draw, from 0.")
@click.option("--size", type=Size(), help="Fit in this many pixels; default 2048x2048 at most.")
@click.option("--resample", type=click.Choice(["nearest", "area", "majority"]))
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", help="Bits per channel.")
@click.option("--member", help="Which raster of the file: its number from 1, or its name.")
@click.option("--overwrite", is_flag=True, help="Replace pictures that exist.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "render demo/sound_8band.tif --nodata 0 -o natural.png",
    "render demo/sound_8band.tif --channels infrared --limits percentile:2,98 -o infrared.png",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Draw rasters as pictures; the data stay as they are."""
    targets = _targets(files, options)
    look = _look(options)
    view = _view(options)
    places = dict(zip(files, targets, strict=True))
    for_each(files, lambda file: _draw(file, places[file], look, view, options))


def _targets(files: tuple[str, ...], options: dict[str, Any]) -> list[str]:
    output, folder = options["output"], options["out_dir"]
    if (output is None) == (folder is None):
        raise click.UsageError("say where the picture goes: -o OUT.png, or --out-dir FOLDER")
    if output is not None and len(files) > 1:
        raise click.UsageError(f"-o names one picture for {len(files)} files; use --out-dir")
    if output is not None:
        return [output]
    targets = [
        os.path.join(folder, os.path.splitext(os.path.basename(file))[0] + ".png") for file in files
    ]
    if len(set(targets)) < len(targets):
        raise click.UsageError("two files would get the same picture; draw them one by one")
    os.makedirs(folder, exist_ok=True)
    return targets


def _look(options: dict[str, Any]) -> dict[str, Any]:
    """Return the fields of the look that the options name."""
    from spectrane.model.errors import LookError
    from spectrane.model.look import Look

    given = {
        name: options[name]
        for name in ("channels", "curve", "limits_from", "nodata_when", "nodata_color", "resample")
        if options[name] is not None
    }
    given |= {name: True for name in ("shared", "invert", "exact") if options[name]}
    if options["limits"]:
        given["limits"] = limits_given(options["limits"])
    try:
        Look(**given)  # what is wrong whatever the file is wrong usage
    except LookError as error:
        raise click.UsageError(str(error)) from error
    return given


def limits_given(texts: Sequence[str]) -> str | list[str]:
    """Return limits as a look takes them: once, or once per channel."""
    limits = [_limit(text) for text in texts]
    return limits[0] if len(limits) == 1 else limits


def _limit(text: str) -> str:
    return f"fixed:{text}" if re.match(r"\s*[-+.\d]", text) else text


def _view(options: dict[str, Any]) -> Any:
    from spectrane.model.view import View

    rows, columns = (
        None if pair is None else (int(pair[0]), int(pair[1]))
        for pair in (options["rows"], options["columns"])
    )
    return View(bounds=options["area"], rows=rows, columns=columns, size=options["size"])


def _draw(
    file: str, target: str, fields: dict[str, Any], view: Any, options: dict[str, Any]
) -> None:
    from dataclasses import replace

    import spectrane.raster
    from spectrane.engine.files import check_target
    from spectrane.model.look import Look

    quiet = options["quiet"]
    check_target(target, overwrite=options["overwrite"])
    with (
        told_warnings(quiet or options["as_json"]) as told,
        progress_bar(file, quiet),
        spectrane.raster.open(file, member=options["member"]) as raster,
    ):
        shown = raster if options["nodata"] is None else raster.with_nodata(options["nodata"])
        look = replace(raster.look or Look(), **fields)
        picture = spectrane.raster.render(shown, look, view=view)
        picture.save(target, bits=int(options["bits"]), overwrite=options["overwrite"])
    _tell(picture, target, told, options)


def _tell(picture: Any, target: str, told: list[str], options: dict[str, Any]) -> None:
    rows, columns = picture.rgba.shape[:2]
    if options["as_json"]:
        from dataclasses import asdict

        scales = [asdict(scale) for scale in picture.scales]
        facts = {"picture": target, "rows": rows, "columns": columns, "source": picture.source,
                 "scales": scales, "warnings": told}  # fmt: skip
        click.echo(json.dumps(facts))
    elif not options["quiet"]:
        names = ("grey",) if len(picture.scales) == 1 else ("red", "green", "blue", "alpha")
        click.echo(f"{target}: {columns} x {rows}")
        for name, scale in zip(names, picture.scales, strict=False):
            click.echo(f"  {name:<5} = {scale}")
