"""Options that make a look, shared by the commands that show something."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeVar

import click

from spectrane.cli.common import NoData, Numbers, refuse
from spectrane.model.curves import Curve
from spectrane.model.errors import LookError
from spectrane.model.limits import Limits
from spectrane.model.look import LIMITS_FROM, NODATA_WHEN, Look
from spectrane.model.resampling import RESAMPLINGS
from spectrane.model.roles import PRESETS
from spectrane.model.rules import forms

Command = TypeVar("Command", bound=Callable[..., Any])

_LIMITS_HELP = (
    f"Where black and white lie: {forms(Limits)}; LOW,HIGH alone is fixed:LOW,HIGH. Once, or once "
    "per channel."
)
_FIELDS = ("channels", "curve", "limits_from", "nodata_when", "nodata_color", "resample",
           "colormap", "local_contrast", "sharpen", "brightness", "contrast",
           "saturation")  # fmt: skip

_OPTIONS = (
    click.option("--look", "look_file", type=click.Path(), help="A look file (.look.toml)."),
    click.option("--channels", help=f"Bands to show: {', '.join(PRESETS)}, 1, or 4,3,2."),
    click.option("--limits", multiple=True, help=_LIMITS_HELP),
    click.option("--shared", is_flag=True, help="One pair of limits for all channels."),
    click.option("--limits-from", type=click.Choice(LIMITS_FROM), help="What limits see."),
    click.option("--limits-region", metavar="X1,Y1,X2,Y2|FILE",
                 help="Limits see these bounds, or the polygons of a GeoJSON file."),
    click.option("--exact", is_flag=True, help="Limits from every pixel, however many."),
    click.option("--curve", help=f"{forms(Curve)}."),
    click.option("--invert", is_flag=True, help="A negative."),
    click.option("--colormap", help="For one band: a colour map by name, or auto."),
    click.option("--local-contrast", type=float, help="Clip limit of local equalisation; 0: none."),
    click.option("--sharpen", type=Numbers(2, "RADIUS,AMOUNT"), help="Unsharp mask."),
    click.option("--brightness", type=float, help="-1 to 1."),
    click.option("--contrast", type=float, help="1 is as it is."),
    click.option("--saturation", type=float, help="1 is as it is, 0 grey."),
    click.option("--nodata", type=NoData(), help="Stored numbers to leave out, or none."),
    click.option("--compute", multiple=True, metavar="NAME=EXPRESSION",
                 help="Show computed bands: ndvi, or dry=(swir16-nir)/(swir16+nir)."),
    click.option("--unit", help="Show and read values in another unit, such as celsius."),
    click.option("--nodata-when", type=click.Choice(NODATA_WHEN), help="Hidden by any or all."),
    click.option("--nodata-color", metavar="#RRGGBB", help="Paint what is hidden."),
    click.option("--resample", type=click.Choice(RESAMPLINGS)),
)  # fmt: skip


def look_options(function: Command) -> Command:
    """Add the options that make a look."""
    for option in reversed(_OPTIONS):
        function = option(function)
    return function


def computed(raster: Any, options: dict[str, Any], *, among: int = 1) -> Any:
    """Return the raster under the no-data asked for, or bands computed from it.

    ``among`` several rasters, the option is for those that name no no-data of their own: what is
    fill in one need not be in another.
    """
    named = among > 1 and any(band.nodata is not None for band in raster.bands)
    plain = options["nodata"] is None or named
    shown = raster if plain else raster.with_nodata(options["nodata"])
    given = {}
    for text in options["compute"]:
        name, equals, expression = text.partition("=")
        given[name.strip()] = expression if equals else name
    shown = shown.compute(given) if given else shown
    return shown.convert(options["unit"]) if options["unit"] else shown


def look_fields(options: dict[str, Any]) -> dict[str, Any]:
    """Return the fields of the look that the options name; wrong ones are wrong usage."""
    given = {name: options[name] for name in _FIELDS if options[name] is not None}
    given |= {name: True for name in ("shared", "invert", "exact") if options[name]}
    if options["limits"]:
        given["limits"] = limits_given(options["limits"])
    if options["limits_region"]:
        given["limits_from"] = _region(options["limits_region"])
    try:
        Look(**given)  # what is wrong whatever the file is wrong usage
    except LookError as error:
        raise click.UsageError(str(error)) from error
    return given


def _region(text: str) -> dict[str, Any]:
    try:
        numbers = [float(part) for part in text.split(",")]
    except ValueError:
        return {"polygon": text}
    if len(numbers) != 4:
        raise click.UsageError(f"--limits-region {text!r}: expected X1,Y1,X2,Y2 or a file")
    return {"bounds": numbers}


def look_for(raster: Any, options: dict[str, Any], fields: dict[str, Any]) -> Any:
    """Return the look of a raster: options over a look file over what the file keeps."""
    from dataclasses import replace

    kept = Look.load(options["look_file"]) if options["look_file"] else raster.look or Look()
    if not options["look_file"] and {"limits", "colormap"} & fields.keys():
        kept = replace(kept, classes={})  # what is asked for are numbers, not the file's classes
    return replace(kept, **fields)


def limits_given(texts: Sequence[str]) -> str | list[str]:
    """Return limits as a look takes them: once, or once per channel."""
    return texts[0] if len(texts) == 1 else list(texts)


AREA_OPTIONS = (
    click.option("--area", type=Numbers(4, "X1,Y1,X2,Y2"), help="Map bounds to show."),
    click.option("--area-crs", help="The system of --area and --center: EPSG:CODE."),
    click.option("--center", type=Numbers(2, "X,Y"), help="Middle of the view; with --pixel."),
    click.option("--pixel", type=float, help="Side of a picture pixel in map units."),
    click.option("--rows", type=Numbers(2, "START,STOP"), help="Rows to show, from 0."),
    click.option("--columns", type=Numbers(2, "START,STOP"), help="Columns to show, from 0."),
    click.option(
        "--stored",
        is_flag=True,
        help="Pixel for pixel, also where pixels are not square on the map.",
    ),
)


AREA_NAMES = ("area", "area_crs", "center", "pixel", "rows", "columns", "stored")


def area_options(function: Command, *, union: bool = False) -> Command:
    """Add the options that say which part is shown; ``union``: also all that layers cover."""
    first = AREA_OR_UNION if union else AREA_OPTIONS[0]
    for option in reversed((first, *AREA_OPTIONS[1:])):
        function = option(function)
    return function


class Area(Numbers):
    """Map bounds, or the word for all that layers cover."""

    def __init__(self) -> None:
        super().__init__(4, "X1,Y1,X2,Y2|union")

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        """Read bounds, or union."""
        return value if value == "union" else super().convert(value, param, ctx)


AREA_OR_UNION = click.option(
    "--area", type=Area(), help="Map bounds to show, or union: all that the layers cover."
)


def area_of(options: dict[str, Any]) -> str:
    """Return what a stack of layers covers where no bounds are given."""
    return "union" if options["area"] == "union" else "bottom"


def view_of(options: dict[str, Any], size: Any = None) -> Any:
    """Return the view that the options say."""
    from spectrane.model.view import View

    rows, columns = (
        None if pair is None else (int(pair[0]), int(pair[1]))
        for pair in (options["rows"], options["columns"])
    )
    bounds = None if options["area"] == "union" else options["area"]
    if bounds is None and options["center"] is None:
        refuse(["area_crs"], "without --area or --center")
    try:
        return View(
            bounds=bounds, rows=rows, columns=columns, size=size,
            center=options["center"], pixel=options["pixel"], crs=options["area_crs"],
            stored=options["stored"],
        )  # fmt: skip
    except LookError as error:
        raise click.UsageError(str(error)) from error
