"""``spectrane amend``: corrections kept with a file, made once."""

from __future__ import annotations

import json
from contextlib import closing
from typing import Any

import click

from spectrane.cli.common import (
    NoData,
    Numbers,
    examples,
    for_each,
    shared_options,
    told_warnings,
)
from spectrane.cli.looks import limits_given
from spectrane.model.errors import LookError
from spectrane.model.look import NODATA_WHEN, Look
from spectrane.model.resampling import SPACINGS

_FIELDS = ("name", "role", "wavelength", "unit", "scale", "offset", "nodata", "description")


@click.command("amend")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--nodata", type=NoData(), help="Stored numbers that mean nothing, or none.")
@click.option("--nodata-when", type=click.Choice(NODATA_WHEN), help="Hidden where any or all.")
@click.option("--band", "bands", multiple=True, metavar="BAND:FIELD=VALUE,…",
              help="Fields of one band: name, role, wavelength, unit, scale, offset, nodata, "
              "description.")  # fmt: skip
@click.option("--names", help="Names of all bands, with commas between them.")
@click.option("--roles", help="Roles of all bands, in order: blue,green,red,nir; - for none.")
@click.option("--wavelengths", help="Centre wavelengths of all bands in nm, in order.")
@click.option("--unit", help="The unit of all bands.")
@click.option("--scale", type=float, help="The scale of all bands.")
@click.option("--offset", type=float, help="The offset of all bands.")
@click.option("--crs", help="The coordinate system: EPSG:CODE or WKT.")
@click.option("--bounds", type=Numbers(4, "X1,Y1,X2,Y2"), help="Where it lies: outer bounds.")
@click.option("--corner", type=Numbers(2, "X,Y"), help="Outer corner of the first pixel.")
@click.option("--pixel-size", type=Numbers(2, "DX,DY"), help="Goes with --corner.")
@click.option("--look", "look_file", type=click.Path(), help="Display default: a look file.")
@click.option("--channels", help="Display default: natural, infrared, 1, or 4,3,2.")
@click.option("--limits", multiple=True, help="Display default: percentile:2,98, LOW,HIGH, ….")
@click.option("--invert", is_flag=True, help="Display default: a negative.")
@click.option("--spacing", type=click.Choice(SPACINGS),
              help="How a series of uneven slices is stacked from now on.")  # fmt: skip
@click.option("--notes", help="A note to whoever opens it next.")
@click.option("--inside", is_flag=True, help="In the file's own fields (TIFF, FITS, PNG).")
@click.option("--undo", is_flag=True, help="Take the last correction back.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "amend demo/sound_8band.tif --nodata 0 --channels natural --limits percentile:2,98",
    "amend demo/sound_8band.tif --undo",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Keep corrections with files, so that every later load has them.

    They go to a sidecar, NAME.spectrane.toml, which wins over what the file says of itself.
    """
    with told_warnings(options["quiet"] or options["as_json"]):
        for_each(files, lambda file: _one(file, options))


def _one(file: str, options: dict[str, Any]) -> None:
    from spectrane.formats import amending, sidecar

    if options["undo"]:
        done = f"{file}: took back {amending.undo(file)}"
    else:
        amending.amend(file, **_corrections(file, options))
        where = "inside" if options["inside"] else f"in {sidecar.path_of(file)}"
        done = f"{file}: kept {where}"
    if options["as_json"]:
        click.echo(json.dumps({"file": file, "done": done}))
    elif not options["quiet"]:
        click.echo(done)


def _corrections(file: str, options: dict[str, Any]) -> dict[str, Any]:
    found: dict[str, Any] = {
        name: options[name]
        for name in ("nodata_when", "crs", "bounds", "corner", "pixel_size", "notes", "spacing")
        if options[name] is not None
    }
    if options["nodata"] is not None:
        given = options["nodata"]
        single = len(given) == 1 and not isinstance(given[0], tuple)
        found["nodata"] = None if not given else given[0] if single else given
    bands = _bands(file, options)
    if bands:
        found["bands"] = bands
    look: dict[str, Any] = {}
    if options["look_file"]:
        look = Look.load(options["look_file"]).to_dict()
    if options["channels"] is not None:
        look["channels"] = options["channels"]
    if options["limits"]:
        limits = limits_given(options["limits"])
        look["limits"] = limits
    if options["invert"]:
        look["invert"] = True
    if look:
        found["look"] = _checked(look)
    return found | {"inside": options["inside"]}


def _checked(look: dict[str, Any]) -> Any:
    try:
        return Look.from_dict(look)
    except LookError as error:
        raise click.UsageError(str(error)) from error


def _bands(file: str, options: dict[str, Any]) -> dict[Any, dict[str, Any]]:
    found: dict[Any, dict[str, Any]] = {}
    for name, field in (("names", "name"), ("roles", "role"), ("wavelengths", "wavelength")):
        if options[name] is not None:
            for number, text in enumerate(options[name].split(","), 1):
                if text.strip() not in ("", "-"):
                    found.setdefault(number, {})[field] = _value(field, text.strip())
    common = {name: options[name] for name in ("unit", "scale", "offset")
              if options[name] is not None}  # fmt: skip
    if common:
        for number in range(1, _count(file, options["spacing"]) + 1):
            found.setdefault(number, {}).update(common)
    for text in options["bands"]:
        key, fields = _band(text)
        found.setdefault(key, {}).update(fields)
    return found


def _count(file: str, spacing: str | None) -> int:
    from spectrane.formats.registry import open_source

    with closing(open_source(file, **({} if spacing is None else {"spacing": spacing}))) as source:
        return len(source.bands)


def _band(text: str) -> tuple[Any, dict[str, Any]]:
    key, colon, rest = text.partition(":")
    fields: dict[str, Any] = {}
    for part in rest.split(","):
        name, equals, value = part.partition("=")
        if not (colon and equals and name.strip() in _FIELDS):
            raise click.UsageError(
                f"--band {text!r}: expected BAND:FIELD=VALUE with the fields {', '.join(_FIELDS)}"
            )
        fields[name.strip()] = _value(name.strip(), value.strip())
    return int(key) if key.strip().isdecimal() else key.strip(), fields


def _value(field: str, text: str) -> Any:
    if field not in ("wavelength", "scale", "offset", "nodata"):
        return text
    try:
        return int(text) if field == "nodata" and text.lstrip("-").isdecimal() else float(text)
    except ValueError:
        raise click.UsageError(f"{field} {text!r}: expected a number") from None
