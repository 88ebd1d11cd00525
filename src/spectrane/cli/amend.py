"""``spectrane amend``: corrections kept with a file, made once."""

from __future__ import annotations

import re
from contextlib import closing
from functools import cache
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, for_each
from spectrane.cli.looks import limits_given
from spectrane.cli.options import Options, argument, command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.cli.values import Numbers
from spectrane.cli.written import counted, file_facts
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.look import Look

_FIELDS = ("name", "role", "wavelength", "unit", "scale", "offset", "nodata", "description")


@record(frozen=True)
class AmendOptions(Options):
    """What ``amend`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    nodata: list[Any] | None = words.nodata()
    nodata_when: str | None = words.nodata_when()
    band: tuple[str, ...] = option(
        "--band", group="Corrections", multiple=True, metavar="BAND:FIELD=VALUE,…",
        help="Fields of one band: name, role, wavelength, unit, scale, offset, nodata, "
        "description.",
    )  # fmt: skip
    names: str | None = words.names()
    roles: str | None = words.roles()
    wavelengths: str | None = option(
        "--wavelengths",
        group="Corrections",
        metavar="NM,…",
        help="Centre wavelengths of all bands in nm, in order; - says none.",
    )
    unit: str | None = option("--unit", group="Corrections", help="The unit of all bands.")
    scale: float | None = option(
        "--scale",
        group="Corrections",
        type=float,
        help="A factor: physical values are stored ones times it.",
    )
    offset: float | None = option("--offset", group="Corrections", type=float,
                                  help="What is added to them.")  # fmt: skip
    spacing: str | None = words.spacing()
    notes: str | None = words.notes()
    set_metadata: tuple[str, ...] = option(
        "--set", group="Corrections", multiple=True, metavar="KEY=VALUE,…",
        help="What the raster is: title=…, date=2026-04-12, cloud=12 (percent), or any KEY=…; "
        "nothing after = takes a key away.",
    )  # fmt: skip
    crs: str | None = words.crs()
    bounds: tuple[float, float, float, float] | None = words.bounds()
    corner: tuple[float, float] | None = option(
        "--corner", group="Place", type=Numbers(2, "X,Y"),
        help="Outer corner of the first pixel; with --pixel-size.",
    )  # fmt: skip
    pixel_size: tuple[float, ...] | None = words.pixel_size()
    look: str | None = words.look_file()
    channels: str | None = words.channels()
    limits: tuple[str, ...] = words.limits()
    invert: bool = words.invert()
    align_to: str | None = option(
        "--align-to", group="Place", type=click.Path(),
        help="Of a volume: another that it is moved and turned onto, from now on.",
    )  # fmt: skip
    inside: bool = option("--inside", group="Output", is_flag=True,
                          help="In the file's own fields (TIFF, FITS, PNG).")  # fmt: skip
    overviews: bool = option(
        "--overviews", group="Corrections", is_flag=True,
        help="Make all views quick: overviews inside a TIFF, beside any other file; alone.",
    )  # fmt: skip
    dry_run: bool = words.dry_run()
    undo: bool = option("--undo", group="Corrections", is_flag=True,
                        help="Take the last correction back.")  # fmt: skip


@command_of("amend", AmendOptions, examples=(
    "amend demo/sound_8band.tif --nodata 0 --channels natural --limits percentile:2,98",
    "amend demo/comet.fits --overviews",
    "amend demo/sound_8band.tif --undo",
))  # fmt: skip
def command(options: AmendOptions) -> None:
    """Keep corrections with files, so that every later load has them.

    They go to a sidecar, NAME.spectrane.toml, which wins over what the file says of itself. Options
    of a look become the file's display default.
    """
    if options.undo:
        options.refuse(options.said() - {"undo", "as_json", "quiet", "debug", "dry_run"},
                       "with --undo, which goes alone")  # fmt: skip
    with answering(options) as answer:
        for_each(options.files, lambda file: _one(file, options, answer), answer)


def _one(file: str, options: AmendOptions, answer: Answer) -> None:
    import os

    from spectrane.formats import amending, sidecar

    if options.overviews:
        _overviews(file, options, answer)
        return
    kept = sidecar.path_of(file)
    if options.undo:
        if options.dry_run:
            raise click.UsageError("--dry-run is not used with --undo")
        back = amending.undo_correction(file)
        facts = file_facts(kept) if os.path.exists(kept) else {"output": None}
        answer.add(facts | {"input": file, "undone": back}, f"{file}: took back {back}")
        return
    given = _corrections(file, options)
    found = None if options.align_to is None else _aligned(file, options)
    if found is not None:
        given["moved"] = found.matrix
    amending.keep_corrections(file, **given)
    goes_to = file if options.inside else kept
    facts = {"output": goes_to} if options.dry_run else file_facts(goes_to)
    changed = sorted(set(given) - {"inside"})
    facts |= {} if found is None else {"alignment": found.to_dict()}
    told = [] if found is None else [f"  {found}"]
    would = "would be " if options.dry_run else ""
    where = "inside" if options.inside else f"in {kept}"
    answer.add(facts | {"input": file, "inside": options.inside, "kept": changed},
               f"{file}: {would}kept {where}: {', '.join(changed)}", *told)  # fmt: skip


def _aligned(file: str, options: AmendOptions) -> Any:
    """Return how a volume must be moved to fall on the one that is named."""
    from spectrane.opening import open_volume
    from spectrane.together import align

    assert options.align_to is not None
    options.refuse(["inside"], "with --align-to: the file's own place stays as it is")
    with open_volume(file) as volume, open_volume(options.align_to) as to:
        return align(volume, to)


def _overviews(file: str, options: AmendOptions, answer: Answer) -> None:
    """Give a file overviews, inside it or beside it."""
    from spectrane.formats.amending import make_overviews

    options.refuse_others(("overviews",), "with --overviews, which goes alone")
    with progress_bar(file, options.quiet or options.as_json) as progress:
        place, inside = make_overviews(file, progress)
    facts = {"output": place} if options.dry_run else file_facts(place)
    where = "inside" if inside else f"in {place}"
    answer.add(facts | {"input": file, "inside": inside, "kept": ["overviews"]},
               f"{file}: overviews {where}; its pixels are as they were")  # fmt: skip


def _corrections(file: str, options: AmendOptions) -> dict[str, Any]:
    corrections: dict[str, Any] = {
        name: value
        for name in ("nodata_when", "crs", "bounds", "corner", "notes", "spacing")
        if (value := getattr(options, name)) is not None
    }
    if options.pixel_size is not None:
        across = options.pixel_size
        corrections["pixel_size"] = across if len(across) == 2 else across * 2
    if options.nodata is not None:
        given = options.nodata
        single = len(given) == 1 and not isinstance(given[0], tuple)
        corrections["nodata"] = None if not given else given[0] if single else given
    if options.set_metadata:
        corrections["metadata"] = _metadata(options.set_metadata)
    bands = _bands(file, options)
    if bands:
        corrections["bands"] = bands
    look: dict[str, Any] = {}
    if options.look:
        look = Look.load(options.look).to_dict()
    if options.channels is not None:
        look["channels"] = options.channels
    if options.limits:
        limits = limits_given(options.limits)
        look["limits"] = limits
    if options.invert:
        look["invert"] = True
    if look:
        corrections["look"] = _checked(look)
    return corrections | {"inside": options.inside}


def _metadata(texts: tuple[str, ...]) -> dict[str, str]:
    """Return the keys and values said; a comma begins another only before ``KEY=``."""
    said = {}
    for text in texts:
        for part in re.split(r",(?=\s*[A-Za-z][\w.:-]*=)", text):
            key, equals, value = part.partition("=")
            if not equals:
                raise click.UsageError(f"--set {text!r}: expected KEY=VALUE")
            said[key.strip()] = value.strip()
    return said


def _checked(look: dict[str, Any]) -> Any:
    try:
        return Look.from_dict(look)
    except LookError as error:
        raise click.UsageError(str(error)) from error


def _bands(file: str, options: AmendOptions) -> dict[Any, dict[str, Any]]:
    bands: dict[Any, dict[str, Any]] = {}
    count = cache(lambda: _count(file, options.spacing))  # only where it is needed, and once
    for name, field in (("names", "name"), ("roles", "role"), ("wavelengths", "wavelength")):
        if (said := getattr(options, name)) is None:
            continue
        texts = [text.strip() for text in said.split(",")]
        values = [None if text in ("", "-") else _value(field, text) for text in texts]
        if len(values) != count():
            raise click.UsageError(
                f"--{name}: {len(values)} for {counted(count(), 'band')} of "
                f"{file}; say one for each, - for one that stays as it is"
            )
        for number, value in enumerate(values, 1):
            if value is not None:
                bands.setdefault(number, {})[field] = value
    common = {name: value for name in ("unit", "scale", "offset")
              if (value := getattr(options, name)) is not None}  # fmt: skip
    if common:
        for number in range(1, count() + 1):
            bands.setdefault(number, {}).update(common)
    for text in options.band:
        key, fields = _band(text)
        bands.setdefault(key, {}).update(fields)
    return bands


def _count(file: str, spacing: str | None) -> int:
    from spectrane.formats.registry import open_source

    options: dict[str, Any] = {} if spacing is None else {"spacing": spacing}
    with closing(open_source(file, **options)) as source:
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
