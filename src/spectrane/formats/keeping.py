"""Keeping what is known of a raster as a sidecar's text, and changing one without losing a word."""

from __future__ import annotations

import os
from collections.abc import Collection, Mapping
from dataclasses import fields
from typing import Any

from spectrane.formats.sidecar import path_of
from spectrane.formats.sidecar_schema import checked
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.look import Look, look_of
from spectrane.model.roles import role_for, role_of
from spectrane.model.said import GIVEN, checked_metadata
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.whole_files import written_whole

_HEADING = "What this says of the file beside it wins over what the file says of itself."


def sidecar_table(source: Source) -> dict[str, Any]:
    """Return what is known of a source as the tables of a sidecar; empty where nothing is."""
    history = [str(line) for line in source.metadata.get("provenance", ())]
    found: dict[str, Any] = {"provenance": history} if history else {}
    given = source.metadata.get(GIVEN)
    if given:
        found["metadata"] = dict(given)
    if source.nodata_when != "any":
        found["nodata"] = {"when": source.nodata_when}
    if source.coded and not source.categories:
        found["coded"] = True
    bands = [_band_table(number, band) for number, band in enumerate(source.bands, 1)]
    bands = [table for table in bands if len(table) > 1]
    if bands:
        found["bands"] = bands
    grid = grid_table(source.grid)
    if grid:
        found["grid"] = grid
    look = {} if source.look is None else source.look.to_dict()
    if look:
        found["look"] = look
    return found


def _band_table(number: int, band: Band) -> dict[str, Any]:
    table: dict[str, Any] = {"number": number}
    for item in fields(Band):
        value = getattr(band, item.name)
        if value is None or value == item.default or value == f"band {number}":
            continue
        table[item.name] = toml_value(value)
    return table


def toml_value(value: Any) -> Any:
    """Bring tuples and NumPy numbers to what TOML holds."""
    if isinstance(value, tuple | list):
        return [toml_value(item) for item in value]
    return value.item() if hasattr(value, "item") else value


def grid_table(grid: Grid) -> dict[str, Any]:
    """Return a map grid's place and coordinate system as a sidecar's table."""
    table: dict[str, Any] = {}
    if len(grid.shape) != 2:
        return table
    if grid.crs_text:
        table["crs"] = grid.crs_text
    if grid.placed:
        a, b, c, d, e, f = grid.coefficients
        if b == d == 0 and a > 0 and e < 0:
            table |= {"corner": [c, f], "pixel_size": [a, -e]}
        else:
            table["affine"] = [[a, b, c], [d, e, f]]
    return table


def sidecar_text(source: Source) -> str:
    """Return a sidecar's text for a source, or nothing where there is nothing to say."""
    table = sidecar_table(source)
    return to_toml(table) if table else ""


_SPOKEN = {"name": "names", "role": "roles", "wavelength": "wavelengths", "unit": "units",
           "scale": "scales", "offset": "offsets", "nodata": "no-data values",
           "description": "descriptions", "time": "times"}  # fmt: skip


def words_without_field(
    source: Source, held: Collection[str], *, format: str, where: str, place: bool = False,
    classes: bool = False, told: Collection[str] = (),
) -> str:  # fmt: skip
    """Return, as a sidecar's text, what a format has no field for; empty where that is nothing.

    ``held`` are the fields of bands that it has, ``place`` and ``classes`` whether it has those.
    What is kept in this way (``where``) and changes what other programs read is warned of, but for
    fields that are ``told`` in another way.
    """
    table = sidecar_table(source)
    table.pop("provenance", None)
    if place:
        table.pop("grid", None)
    bands = [{key: value for key, value in band.items() if key not in held}
             for band in table.pop("bands", ())]  # fmt: skip
    for band in bands:
        described = source.bands[band["number"] - 1]
        if described.wavelength is not None and band.get("role") == role_for(described.wavelength):
            del band["role"]  # said by the wavelength
    bands = [band for band in bands if len(band) > 1]
    lost = [spoken for key, spoken in _SPOKEN.items()
            if key not in told and any(key in band for band in bands)]  # fmt: skip
    if bands:
        table["bands"] = bands
    lost += ["place and coordinate system"] if "grid" in table else []
    if classes:
        table.get("look", {}).pop("classes", None)
    if not table.get("look", True):
        del table["look"]
    lost += ["class names and colours"] if "classes" in table.get("look", {}) else []
    lost += ["that a pixel is invalid only where all bands are"] if "nodata" in table else []
    if lost:
        warn_caller(
            f"{format} has no field for {', '.join(lost)} of these bands: kept in {where}, which "
            "other programs do not read"
        )
    return to_toml(table) if table else ""


def to_toml(table: Mapping[str, Any], before: str = "") -> str:
    """Return tables as TOML; comments and order of the text ``before`` are kept."""
    import tomlkit

    document = tomlkit.parse(before) if before else tomlkit.document()
    if not before:
        document.add(tomlkit.comment(_HEADING))
        document.add("version", tomlkit.item(1))
    _merge(document, table)
    return tomlkit.dumps(document)


def _merge(target: Any, changes: Mapping[str, Any]) -> None:
    """Put changes into a TOML table; None takes a key out."""
    for key, value in changes.items():
        if value is None:
            target.pop(key, None)
        elif isinstance(value, list) and key == "bands" and key in target:
            _merge_bands(target, value)
        elif isinstance(value, Mapping):
            if not isinstance(target.get(key), Mapping):
                target[key] = {}
            _merge(target[key], value)
        else:
            target[key] = value


def _merge_bands(target: Any, bands: Any) -> None:
    known = {table["number"]: table for table in target["bands"]}
    for band in bands:
        if band["number"] in known:
            _merge(known[band["number"]], band)
        else:
            target["bands"].append(band)


def changes_table(
    *, nodata: Any = ..., nodata_when: str | None = None,
    bands: Mapping[int, Mapping[str, Any]] | None = None, crs: str | None = None,
    bounds: Any = None, corner: Any = None, pixel_size: Any = None, affine: Any = None,
    look: Look | Mapping[str, Any] | None = None, notes: str | None = None,
    spacing: str | None = None, metadata: Mapping[str, Any] | None = None, moved: Any = None,
) -> dict[str, Any]:  # fmt: skip
    """Return corrections as a sidecar's tables; ``...`` for no-data is "as it is", None is none."""
    table: dict[str, Any] = {}
    if nodata is not ...:
        table["nodata"] = {"value": [] if nodata is None else toml_value(nodata)}
    if nodata_when is not None:
        table.setdefault("nodata", {})["when"] = nodata_when
    if bands:
        table["bands"] = [
            {"number": int(number)} | {key: toml_value(value) for key, value in given.items()}
            for number, given in sorted(bands.items())
        ]
        for given in bands.values():
            if given.get("role") is not None:
                role_of(given["role"])
    place = {"crs": crs, "bounds": bounds, "corner": corner, "pixel_size": pixel_size,
             "affine": affine, "moved": moved}  # fmt: skip
    grid = {key: toml_value(value) for key, value in place.items() if value is not None}
    if grid:
        table["grid"] = grid
    if look is not None:
        kept = Look.from_dict(look) if isinstance(look, Mapping) else look_of(look)
        table["look"] = {} if kept is None else kept.to_dict()
    if notes is not None:
        table["notes"] = notes
    if metadata:
        table["metadata"] = checked_metadata(metadata)
    if spacing is not None:
        table["reading"] = {"spacing": spacing}
    return table


def with_other_place_gone(changes: dict[str, Any]) -> dict[str, Any]:
    """Let a new place replace whatever said it before: bounds, corner or affine."""
    grid = changes.get("grid")
    if grid and grid.keys() & {"bounds", "corner", "affine"}:
        nothing = dict.fromkeys(("bounds", "corner", "pixel_size", "affine"))
        return changes | {"grid": nothing | grid}
    return changes


def write_sidecar(name: str, table: Mapping[str, Any], before: str | None) -> str:
    """Merge changes into a file's sidecar, check the whole, and write it; return its text."""
    import tomllib

    path = path_of(name)
    text = to_toml(table, before or "")
    checked(tomllib.loads(text), path)
    put_text(path, text)
    return text


def put_text(path: str, text: str | None) -> None:
    """Write a text as a whole, or take the file away for None."""
    if text is None:
        if os.path.exists(path):
            os.unlink(path)
        return
    with written_whole(path, overwrite=True) as file:
        file.write(text.encode())
