"""``spectrane compare``: panels side by side over the same area."""

from __future__ import annotations

import contextlib
from typing import Any

import click

from spectrane.cli.common import Size, examples, shared_options, told_warnings
from spectrane.cli.looks import (
    area_options,
    computed,
    limits_given,
    look_fields,
    look_options,
    view_of,
)
from spectrane.display.linked import MODES
from spectrane.model.errors import LookError
from spectrane.model.look import Look


@click.command("compare")
@click.argument("files", nargs=-1, required=True, metavar="A [B …]")
@click.option("--output", "-o", type=click.Path(), required=True, help="The figure (.png).")
@click.option("--with-look", "looks", multiple=True, type=click.Path(),
              help="A look file per panel, in order; of one file, a panel per look.")  # fmt: skip
@click.option("--vary", multiple=True, metavar="FIELD=VALUE",
              help="One file: a panel for each, such as curve=sqrt.")  # fmt: skip
@click.option("--histograms", is_flag=True, help="Histograms below the panels.")
@click.option("--mode", type=click.Choice(MODES), default="panels",
              help="Two rasters may be mixed instead.")  # fmt: skip
@look_options
@area_options
@click.option("--size", type=Size(), default="1280x800", help="Pixels of the figure.")
@click.option("--overwrite", is_flag=True, help="Replace a figure that exists.")
@shared_options
@examples(
    "compare demo/sound_8band.tif --vary channels=natural --vary channels=infrared --nodata 0 "
    "--limits percentile:2,98 -o both.png",
    "compare demo/sound_8band.tif demo/sound_thermal.tif --colormap auto --mode swipe -o two.png",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Show 2 to 6 panels over the same area: one file in several looks, or several files.

    Files with different grids are linked by map position; the area is the first one's.
    """
    import spectrane.raster
    from spectrane.figures.compare import compare
    from spectrane.figures.paper import save

    fields = look_fields(options)
    view = view_of(options)
    with told_warnings(options["quiet"]), contextlib.ExitStack() as stack:
        rasters = []
        for file in files:
            raster = stack.enter_context(spectrane.raster.open(file))
            rasters.append(computed(raster, options, among=len(files)))
        layers = _layers(rasters, fields, options)
        figure = compare(
            layers, view=view, size=options["size"], histograms=options["histograms"],
            mode=options["mode"],
        )  # fmt: skip
        save(figure, options["output"], overwrite=options["overwrite"])
    if not options["quiet"]:
        click.echo(f"{options['output']}: {len(layers)} at the same place")


def _layers(rasters: list[Any], fields: dict[str, Any], options: dict[str, Any]) -> list[Any]:
    from dataclasses import replace

    looks = [Look.load(path) for path in options["looks"]]
    if options["look_file"]:
        looks = looks or [Look.load(options["look_file"])] * len(rasters)
    if options["vary"]:
        if len(rasters) > 1 or looks:
            raise click.UsageError("--vary is for one file, and without --with-look")
        base = {**fields}
        looks = [_varied(base, text) for text in options["vary"]]
        return [(rasters[0], look) for look in looks]
    if len(rasters) == 1 and len(looks) > 1:
        return [(rasters[0], replace(look, **fields)) for look in looks]
    if looks and len(looks) != len(rasters):
        raise click.UsageError(f"{len(looks)} look files for {len(rasters)} rasters")
    kept = looks or [raster.look or Look() for raster in rasters]
    return [(raster, fitting(raster, replace(look, **fields)))
            for raster, look in zip(rasters, kept, strict=True)]  # fmt: skip


def fitting(raster: Any, look: Any) -> Any:
    """Leave out what a raster of one band, or of many, has no use for."""
    from dataclasses import replace

    if len(raster.bands) == 1:
        return replace(look, channels=None)
    return replace(look, colormap=None) if look.channels is None else look


def _varied(base: dict[str, Any], text: str) -> Any:
    name, equals, value = text.partition("=")
    name = name.strip().replace("-", "_")
    given: Any = limits_given([value]) if name == "limits" else value.strip()
    if name in ("invert", "shared", "exact"):
        given = value.strip().lower() in ("true", "yes", "1")
    elif name in ("brightness", "contrast", "saturation", "local_contrast"):
        given = float(value)
    try:
        if not equals:
            raise LookError(f"--vary {text!r}: expected FIELD=VALUE")
        return Look.from_dict({**base, name: given})
    except (LookError, ValueError) as error:
        raise click.UsageError(str(error)) from error
