"""Bands of several files on one grid, named and described as one raster.

Names come from the bands, else from what tells the files' names apart; roles from names and
wavelengths (``model.roles``); scale and offset from the bands, or from notes that are named, and
are never guessed.
"""

from __future__ import annotations

import os
import re
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

from spectrane.formats.notes import read_notes, words_of
from spectrane.model.addresses import file_stem
from spectrane.model.band import Band, unnamed
from spectrane.model.errors import MetadataError
from spectrane.model.grid import Grid
from spectrane.model.roles import role_in, role_of, wavelength_in
from spectrane.model.source import Source
from spectrane.spatial.grids import typical_side
from spectrane.spatial.joined import JoinedBands
from spectrane.spatial.regridded import regrid

SCALES = frozenset({"scale", "mult", "multiplier", "gain", "slope", "factor"})
OFFSETS = frozenset({"offset", "add", "bias", "intercept"})
"""Words of notes' keys that say a band's scale and its offset."""
_FILLING = frozenset({"band", "the", "of", "for", "scale", "add", "value"}) | SCALES | OFFSETS


def bands_on_one_grid(
    sources: Sequence[Source], *, grid: Grid | None = None, resample: str | None = None,
    names: Sequence[str] | None = None, roles: Sequence[str | None] | None = None,
    notes: str | None = None,
) -> JoinedBands:  # fmt: skip
    """Return all bands on one grid: ``grid``, or that of the finest pixels among them.

    ``names`` and ``roles`` are those of all bands in order, and win over what is found. ``notes``
    names a file of scales and offsets, and after a comma the quantity that is meant where it tells
    of several (``scene.txt,reflectance``). Raises GridMismatch where the sources cannot be related,
    MetadataError for names, roles and notes that do not fit.
    """
    target = finest([source.grid for source in sources]) if grid is None else grid
    joined = JoinedBands([regrid(source, target, resample=resample) for source in sources])
    bands = _named(sources, joined.bands)
    bands = [_meant(band, stem) for band, stem in zip(bands, _stems(sources), strict=True)]
    for field, given in (("name", names), ("role", roles)):
        bands = _given(bands, field, given)
    if notes is not None:
        path, quantity = _notes_asked(notes)
        bands = scaled_by(read_notes(path), bands, quantity, path)
    joined.bands = tuple(bands)
    return joined


def finest(grids: Sequence[Grid]) -> Grid:
    """Return the grid of the smallest pixels on the map of the first; of equals the first."""
    if not all(grid.placed for grid in grids):
        return grids[0]
    return min(grids, key=lambda grid: round(typical_side(grid, grids[0]), 9))


def _stems(sources: Sequence[Source]) -> list[str]:
    """Return for each band the name of its file, without folder and ending."""
    return [_stem(source) for source in sources for _ in source.bands]


def _stem(source: Source) -> str:
    return source.told_as or file_stem(source.name)


def apart(stems: Sequence[str]) -> list[str]:
    """Return what tells names apart: without the words that all begin or end with.

    >>> apart(["sound_20260412_B02", "sound_20260412_B03"]), apart(["B02"])
    (['B02', 'B03'], ['B02'])
    """
    parts = [re.split(r"([_\s.-]+)", stem) for stem in stems]
    if len(set(stems)) < 2:
        return list(stems)
    while all(len(one) > 2 for one in parts) and len({one[0] for one in parts}) == 1:
        parts = [one[2:] for one in parts]
    while all(len(one) > 2 for one in parts) and len({one[-1] for one in parts}) == 1:
        parts = [one[:-2] for one in parts]
    return ["".join(one) for one in parts]


def _named(sources: Sequence[Source], joined: Sequence[Band]) -> list[Band]:
    """Name bands that have no name of their own, and single ones that share it, by their files."""
    files = [_stem(source) for source in sources]
    short = apart(files)
    if len(set(short)) < len(short) or "" in short:
        return list(joined)
    bands, place = [], 0
    own = [source.bands[0].name for source in sources if len(source.bands) == 1]
    for source, name in zip(sources, short, strict=True):
        for index, band in enumerate(source.bands):
            alone = len(source.bands) == 1
            called = joined[place].name
            if alone and (unnamed(band, index) or own.count(band.name) > 1):
                called = name
            elif unnamed(band, index):
                called = f"{name} {index + 1}"
            bands.append(replace(joined[place], name=called))
            place += 1
    return bands


def _meant(band: Band, stem: str) -> Band:
    """Give a band without a role that which its name, its description or its file's name says."""
    texts = (band.name, band.description or "", stem)
    wave = band.wavelength
    if wave is None:
        wave = next((found for text in texts if (found := wavelength_in(text)) is not None), None)
    if band.role is not None or wave is not None:
        return replace(band, wavelength=wave)
    role = next((said for text in texts if (said := role_in(text)) is not None), None)
    return replace(band, role=role)


def _given(bands: list[Band], field: str, given: Sequence[Any] | None) -> list[Band]:
    if given is None:
        return bands
    if len(given) != len(bands):
        raise MetadataError(f"{field}s: {len(given)} for {len(bands)} bands; say one for each")
    if field == "role":
        given = [None if value is None else role_of(value) for value in given]
    changes: list[dict[str, Any]] = [{field: value} for value in given]
    return [band if change[field] is None and field == "name" else replace(band, **change)
            for band, change in zip(bands, changes, strict=True)]  # fmt: skip


def _notes_asked(text: str) -> tuple[str, str | None]:
    """Return the path and the quantity of ``FILE[,QUANTITY]``."""
    if os.path.exists(text) or "," not in text:
        return text, None
    path, _, quantity = text.rpartition(",")
    return path, quantity.strip().lower()


def scaled_by(
    notes: Sequence[tuple[str, str]], bands: Sequence[Band], quantity: str | None, path: str
) -> list[Band]:
    """Return bands with the scale and offset that notes say, of all or of each by its name.

    A key says a scale or an offset by one of its words (``SCALES``, ``OFFSETS``), which band by
    others: its name, or its number where the name holds one; what is left names the quantity.
    Raises MetadataError where nothing is said, or several things are.
    """
    made = []
    found = 0
    for band in bands:
        changes = {}
        others = [one for one in bands if one is not band]
        for field, kind in (("scale", SCALES), ("offset", OFFSETS)):
            said = _said(notes, band, others, kind, quantity, path)
            if said is not None:
                changes[field] = said
        found += len(changes)
        fields: dict[str, Any] = changes
        made.append(replace(band, **fields))
    if not found:
        known = f" of {quantity}" if quantity else ""
        raise MetadataError(
            f"{path}: says no scale or offset{known} of {', '.join(band.name for band in bands)}; "
            "expected lines such as scale = 0.0001, B02 scale = 0.0001 or offset_B02 = -0.1"
        )
    return made


def _said(
    notes: Sequence[tuple[str, str]], band: Band, others: Sequence[Band], kind: frozenset[str],
    quantity: str | None, path: str,
) -> float | None:  # fmt: skip
    """Return the number that notes say of a band: the one for it alone, else the one for all."""
    own: list[tuple[str, float]] = []
    common: list[tuple[str, float]] = []
    for key, text in notes:
        words = words_of(key)
        if not kind & set(words):
            continue
        rest = [word for word in words if word not in kind and word not in _FILLING]
        meant = [word for word in rest if not _names(word, band)]
        of_another = any(not word.isalpha() or any(_names(word, one) for one in others)
                         for word in meant)  # fmt: skip
        if of_another or (quantity is not None and quantity not in meant):
            continue
        (own if len(meant) < len(rest) else common).append((key, _number(text, key, path)))
    said = own or common
    if len({number for _, number in said}) > 1:
        each = ", ".join(f"{key} {number:g}" for key, number in said)
        raise MetadataError(f"{path}: says several of {band.name}: {each}; say which quantity is "
                            f"meant: {path},QUANTITY")  # fmt: skip
    return said[0][1] if said else None


def _names(word: str, band: Band) -> bool:
    """Tell whether a word names a band: its name, or the number in it.

    >>> _names("b02", Band("B02")), _names("2", Band("B02")), _names("3", Band("B02"))
    (True, True, False)
    """
    if word in words_of(band.name) or word == (band.role or ""):
        return True
    number = re.fullmatch(r"[a-z]*0*(\d+)", "".join(words_of(band.name)))
    other = re.fullmatch(r"(?:b|band)?0*(\d+)", word)
    return number is not None and other is not None and number[1] == other[1]


def _number(text: str, key: str, path: str) -> float:
    try:
        return float(text)
    except ValueError:
        raise MetadataError(f"{path}: {key} = {text!r}: expected a number") from None
