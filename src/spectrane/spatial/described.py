"""Another word on what bands mean: names, units, no-data, as a person gives it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, replace
from typing import Any

from spectrane.engine.described import Described
from spectrane.model.asking import BandFields
from spectrane.model.band import Band, find_band
from spectrane.model.errors import MetadataError
from spectrane.model.nodata import nodata_value, per_band
from spectrane.model.source import Source


def with_nodata(source: Source, nodata: Any, when: str | None = None) -> Source:
    """Replace what a source says of no-data.

    ``nodata`` is a number, a list in which a pair is a closed range, None for none at all, or a
    mapping from band numbers (from 1), names or roles to either. ``when`` is ``any`` or ``all``.
    """
    if when not in (None, "any", "all"):
        raise MetadataError(f"when {when!r}: expected any or all")
    if isinstance(nodata, Mapping):
        rules = {find_band(source.bands, key): nodata_value(v) for key, v in nodata.items()}
    else:
        rules = per_band(nodata, len(source.bands))
    bands = [
        replace(band, nodata=rules[k]) if k in rules else band
        for k, band in enumerate(source.bands)
    ]
    return Described(source, bands, when)


_GIVEN = {field.name for field in fields(Band)}


OF_FRAMES = frozenset({"name", "unit", "scale", "offset", "nodata", "time", "statistic"})
"""What may be said of a volume's frame."""


def with_frames(source: Source, given: BandFields) -> Source:
    """Describe a volume's frames anew: a mapping from number (from 1) or name to new fields."""
    for key, changes in given.items() if isinstance(given, Mapping) else ():
        unknown = sorted(set(changes) - OF_FRAMES) if isinstance(changes, Mapping) else ()
        if unknown:
            raise MetadataError(f"frame {key}: no field {', '.join(unknown)}; expected "
                                f"{', '.join(sorted(OF_FRAMES))}")  # fmt: skip
    return with_bands(source, given)


def with_bands(source: Source, given: BandFields) -> Source:
    """Describe bands anew: a mapping from band number (from 1), name or role to new fields."""
    bands = list(source.bands)
    if not isinstance(given, Mapping):
        raise MetadataError(f"bands {given!r}: expected such as {{1: {{'role': 'nir'}}}}")
    for key, changes in given.items():
        if not isinstance(changes, Mapping):
            raise MetadataError(f"band {key}: {changes!r}: expected such as {{'role': 'nir'}}")
        unknown = sorted(set(changes) - _GIVEN)
        if unknown:
            raise MetadataError(
                f"band {key}: no field {', '.join(unknown)}; expected {', '.join(sorted(_GIVEN))}"
            )
        index = find_band(source.bands, key)
        changes = dict(changes)
        if "nodata" in changes:
            changes["nodata"] = nodata_value(changes["nodata"])
        if "wavelength" in changes and "role" not in changes:
            changes["role"] = None  # a new wavelength names the role anew
        bands[index] = replace(bands[index], **changes)
    return Described(source, bands)
