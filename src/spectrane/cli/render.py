"""``spectrane render``: rasters to pictures."""

from __future__ import annotations

import json
import os
from typing import Any

import click

from spectrane.cli.common import (
    Size,
    damaged_option,
    examples,
    for_each,
    progress_bar,
    shared_options,
    told_warnings,
)
from spectrane.cli.looks import area_options, computed, look_fields, look_for, look_options, view_of
from spectrane.display.picture import check_picture_name
from spectrane.model.whole_files import check_target


@click.command("render")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--output", "-o", type=click.Path(), help="The picture to write (.png).")
@click.option("--out-dir", type=click.Path(), help="A folder for one picture per file.")
@look_options
@area_options
@click.option("--size", type=Size(), help="Fit in this many pixels; default 2048x2048 at most.")
@click.option("--save-look", type=click.Path(), help="Keep the look in a file (.look.toml).")
@click.option("--legend", type=click.Path(), help="The legend as a figure of its own (.png).")
@click.option("--bits", type=click.Choice(["8", "16"]), default="8", help="Bits per channel.")
@click.option("--member", help="Which raster of the file: its number from 1, or its name.")
@damaged_option
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
    look = look_fields(options)
    view = view_of(options, options["size"])
    if options["legend"] and len(files) > 1:
        raise click.UsageError("--legend shows one picture")
    places = dict(zip(files, targets, strict=True))
    if options["save_look"]:
        check_target(options["save_look"], overwrite=options["overwrite"])
    for_each(files, lambda file: _draw(
        file, places[file], look, view, options, first=file == files[0]))  # fmt: skip


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


def _draw(
    file: str, target: str, fields: dict[str, Any], view: Any, options: dict[str, Any],
    *, first: bool,
) -> None:  # fmt: skip
    import spectrane.raster

    quiet = options["quiet"]
    check_picture_name(target)
    check_target(target, overwrite=options["overwrite"])
    with (
        told_warnings(quiet or options["as_json"]) as told,
        progress_bar(file, quiet),
        spectrane.raster.open(file, member=options["member"], damaged=options["damaged"]) as raster,
    ):
        shown = computed(raster, options)
        look = look_for(shown, options, fields)
        picture = spectrane.raster.render(shown, look, view=view)
        picture.save(target, bits=int(options["bits"]), overwrite=options["overwrite"])
        if options["save_look"] and first:
            look.save(options["save_look"], overwrite=options["overwrite"])
        if options["legend"]:
            from spectrane.figures.colorbar import colorbar
            from spectrane.figures.paper import save

            save(colorbar(picture), options["legend"], overwrite=options["overwrite"])
    _tell(picture, target, told, options)


def _tell(picture: Any, target: str, told: list[str], options: dict[str, Any]) -> None:
    rows, columns = picture.rgba.shape[:2]
    if options["as_json"]:
        from dataclasses import asdict

        scales = [asdict(scale) for scale in picture.scales]
        facts = {"picture": target, "rows": rows, "columns": columns, "source": picture.source,
                 "scales": scales, "notes": list(picture.notes), "warnings": told}  # fmt: skip
        click.echo(json.dumps(facts))
    elif not options["quiet"]:
        click.echo(f"{target}: {columns} x {rows}")
        for note in picture.notes:
            click.echo(f"  {note}")
        for name, scale in zip(picture.channels, picture.scales, strict=False):
            click.echo(f"  {name:<5} = {scale}")
