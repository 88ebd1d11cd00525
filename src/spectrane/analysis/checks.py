"""What looks wrong with a raster: real checks, each with the command that mends it."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from spectrane.analysis.coordinate_systems import system_facts
from spectrane.analysis.fills import Fill, fills, mending, said_of, without
from spectrane.analysis.sampling import Sample, sample_of
from spectrane.analysis.walking import finite
from spectrane.kernels.ranks import percentiles
from spectrane.kernels.records import record
from spectrane.model.addresses import amend_command
from spectrane.model.band import nodata_astray
from spectrane.model.errors import nearest
from spectrane.model.grid import IMAGE_PLANE
from spectrane.model.limits import Auto, Fixed
from spectrane.model.physical import ends, physical
from spectrane.model.roles import PRESETS, ROLES
from spectrane.model.source import Source

_STRETCH = "--limits percentile:2,98"
_ABSURD = 0.02
_SHORTEST = 3.0
"""Nanometres of X-rays: bands that are all shorter were mostly meant in micrometres."""
NARROW = 0.1
"""A used range under this share of the type's comes out black, white or flat."""


@record(frozen=True)
class Finding:
    """Something to look at twice: a short code, what was found, and the command that mends it."""

    code: str
    message: str
    fix: str


def findings(source: Source, *, pixels: bool = True) -> list[Finding]:
    """Return what looks wrong. With ``pixels`` a sample is read; else only the header is judged."""
    found = list(_header_findings(source))
    if pixels:
        sample = sample_of(source)
        suspects = fills(source, sample.bands, sample=sample)
        if suspects:  # which says what is meant
            meant = mending(source, suspects)
            found = [replace(one, fix=meant) if one.code == "nodata" else one for one in found]
        found += _fill_findings(source, suspects)
        sample = sample.ruled_by(without(source, suspects))  # what else is told is of the rest
        found += [one for check in _PIXEL_CHECKS for one in check(source, sample)]
    return found


def _amend(source: Source, options: str) -> str:
    return amend_command(source.name or "FILE", options)


def cure(fixes: Sequence[str]) -> str:
    """Return commands as one that does what all do, where it can be; else a line for each.

    >>> cure(["spectrane amend A --nodata 0", "spectrane amend A --channels natural"])
    'spectrane amend A --nodata 0 --channels natural'
    """
    commands: dict[str, list[list[str]]] = {}
    for fix in fixes:
        words = fix.split(" ")
        split = next((k for k, word in enumerate(words) if word.startswith("--")), len(words))
        given = commands.setdefault(" ".join(words[:split]), [])
        options = words[split:]
        if options not in given:
            given.append(options)
    lines = []
    for start, many in commands.items():
        named = [options[0] for options in many if options]
        if start.startswith("spectrane amend ") and len(set(named)) == len(many):
            lines.append(" ".join([start, *(word for options in many for word in options)]))
        else:  # two ways to set one thing: a person must choose
            lines += [" ".join([start, *options]) for options in many]
    return "\n".join(lines)


def _header_findings(source: Source) -> Iterator[Finding]:
    yield from _place_findings(source)
    yield from _overview_findings(source)
    roles = [band.role for band in source.bands]
    natural = list(PRESETS["natural"])
    shown = source.look is not None and source.look.channels is not None
    if not shown and set(natural) <= set(roles) and roles[:3] != natural:
        numbers = ",".join(str(roles.index(role) + 1) for role in natural)
        yield Finding(
            "order",
            f"bands are not stored in display order: red, green, blue are bands {numbers}; shown "
            "by their roles they come out right",
            _amend(source, "--channels natural"),
        )
    yield from _band_findings(source)
    plain_names = all(re.fullmatch(r"band \d+", band.name) for band in source.bands)
    if len(source.bands) > 3 and plain_names and not any(roles):
        yield Finding(
            "unnamed", f"{len(source.bands)} bands without names, roles or wavelengths: nothing "
            "says which is red", _amend(source, "--roles blue,green,red,nir,…"),
        )  # fmt: skip


def _band_findings(source: Source) -> Iterator[Finding]:
    """Judge what is said of bands: by the file, or by hand."""
    if (said := nodata_astray(source.bands, source.dtype)) is not None:
        yield Finding("nodata", said, _amend(source, "--nodata VALUE"))
    waves = [band.wavelength for band in source.bands if band.wavelength is not None]
    if waves and max(waves) < _SHORTEST:
        meant = ",".join("-" if band.wavelength is None else f"{1000 * band.wavelength:g}"
                         for band in source.bands)  # fmt: skip
        yield Finding(
            "wavelength", f"wavelengths of {min(waves):g} to {max(waves):g} nm: they look like "
            "micrometres", _amend(source, f"--wavelengths {meant}"),
        )  # fmt: skip
    for number, band in enumerate(source.bands, 1):
        if band.role is not None and band.role not in ROLES:
            near = nearest(band.role, ROLES)
            yield Finding("role", f"band {number}: its role {band.role!r} is no common name{near}",
                          _amend(source, f"--band {number}:role=ROLE"))  # fmt: skip


_LARGE = 16 << 20
"""Pixels of a file that is slow to show without overviews."""


def _overview_findings(source: Source) -> Iterator[Finding]:
    pixels = float(np.prod([float(n) for n in source.shape]))
    if len(source.shape) == 2 and pixels >= _LARGE and not source.overviews and source.state:
        yield Finding(
            "overviews", f"{pixels / 1e6:.0f} million pixels without overviews: each view reads "
            "them all", _amend(source, "--overviews"),
        )  # fmt: skip


def _place_findings(source: Source) -> Iterator[Finding]:
    grid = source.grid
    if len(grid.shape) != 2:
        return
    if grid.placed and not grid.crs_text and grid.crs_name != IMAGE_PLANE:
        yield Finding(
            "no-crs", "has a place but no coordinate system: positions are numbers without a map",
            _amend(source, "--crs EPSG:CODE"),
        )  # fmt: skip
    if not grid.placed:
        return
    dx, dy = grid.pixel_size
    geographic = system_facts(source).geographic
    low, high = min(dx, dy), max(dx, dy)
    odd = None
    if high > 5 * low:
        odd = "pixels are more than five times longer than wide"
    elif geographic and high > 5:
        odd = "pixels of more than 5 degrees: are these metres?"
    elif not geographic and grid.crs_text and high < 1e-3:
        odd = "pixels under a millimetre: are these degrees?"
    elif geographic and not _on_earth(grid.bounds):
        odd = f"longitude and latitude {tuple(round(v, 3) for v in grid.bounds)} are off the earth"
    if odd:
        yield Finding(
            "pixel-size", f"suspicious pixel size {dx:.6g} x {dy:.6g}: {odd}",
            _amend(source, "--corner X,Y --pixel-size DX,DY"),
        )  # fmt: skip


def _on_earth(bounds: tuple[float, float, float, float]) -> bool:
    x_min, y_min, x_max, y_max = bounds
    return x_min >= -361 and x_max <= 361 and y_min >= -90.01 and y_max <= 90.01


def _fill_findings(source: Source, found: Sequence[Fill]) -> Iterator[Finding]:
    for fill in found:
        declared = any(band.nodata is not None for band in source.bands)
        yield Finding(
            "fill", f"{said_of(source, fill)}, and "
            + ("are not declared as no-data" if declared else "no no-data value is set"),
            mending(source, found),
        )  # fmt: skip


def _display_range(source: Source, sample: Sample) -> Iterator[Finding]:
    """Judge the display range kept with the file, and the range its header claims."""
    if source.look is not None and not source.categories:
        for index, rule in enumerate(source.look.limits):
            if not isinstance(rule, Fixed) or index >= len(sample.bands):
                continue
            low, high = sorted((rule.low, rule.high))
            least, most = _ends(source, sample, index)
            if least is None or most is None:
                continue
            if 0 <= most - least < _ABSURD * (high - low):
                yield Finding(
                    "display-range", f"the display range {low:g} to {high:g} is absurdly wide for "
                    f"data from {least:g} to {most:g}", _amend(source, _STRETCH),
                )  # fmt: skip
            elif most < low or least > high:
                yield Finding(
                    "display-range", f"the display range {low:g} to {high:g} misses the data, "
                    f"which run from {least:g} to {most:g}", _amend(source, _STRETCH),
                )  # fmt: skip
    claimed = _claimed_range(source)
    least, most = _ends(source, sample, 0) if claimed and sample.complete else (None, None)
    if claimed and least is not None and most is not None:
        outside = claimed[0] > most or claimed[1] < least or claimed[0] >= claimed[1]
        if outside:
            yield Finding(
                "header-range", f"the header claims values from {claimed[0]:g} to {claimed[1]:g}; "
                f"the data run from {least:g} to {most:g}", "nothing to do: the claim is not used",
            )  # fmt: skip


def _claimed_range(source: Source) -> tuple[float, float] | None:
    first: list[Any]
    for low, high in (("DATAMIN", "DATAMAX"), ("SMinSampleValue", "SMaxSampleValue"),
                      ("MinSampleValue", "MaxSampleValue")):  # fmt: skip
        pair = [source.metadata.get(name) for name in (low, high)]
        first = [value[0] if isinstance(value, list) and value else value for value in pair]
        if all(isinstance(v, int | float) and not isinstance(v, bool) for v in first):
            return float(first[0]), float(first[1])
    return None


def _ends(source: Source, sample: Sample, index: int) -> tuple[float | None, float | None]:
    values = sample.values(index)
    if not values.size:
        return None, None
    band = source.bands[sample.bands[index]]
    return ends((values.min(), values.max()), band)


def _value_range(source: Source, sample: Sample) -> Iterator[Finding]:
    """Judge the values against what a plain display, or the band's meaning, expects."""
    if source.categories:
        return
    for index in range(len(sample.bands)):
        band = source.bands[sample.bands[index]]
        if not any(finite(part.valid(index)).size for part in sample.parts):
            yield Finding(
                "empty", f"{band.name}: no valid pixel was found", _amend(source, "--nodata none")
            )
            return
        text = f"{band.name} {band.description or ''}".lower()
        if re.search(r"\b(nd[a-z]i|index)\b", text):
            physical_values = physical(sample.values(index), band, np.float64)
            outside = float((np.abs(physical_values) > 1).mean())
            if outside > 0.01:
                yield Finding(
                    "index-range", f"{band.name}: {outside:.0%} of an index lie outside -1 to 1: "
                    "is a scale missing?", _amend(source, f"--band {index + 1}:scale=0.0001"),
                )  # fmt: skip
    yield from _plain_display(source, sample)


def _plain_display(source: Source, sample: Sample) -> Iterator[Finding]:
    kept = source.look is not None and source.look.limits_named
    if kept or Auto.stretches(source.stored_type):
        return
    values = sample.values(0)
    if not values.size:
        return
    low, high = percentiles(values, (1, 99))
    span = np.iinfo(source.dtype) if source.dtype.kind in "iu" else None
    used = (high - low) / (float(span.max) - float(span.min)) if span else 1.0
    if used < NARROW:
        yield Finding(
            "narrow", f"the data use {used:.1%} of the range of {source.dtype.name}: unstretched "
            "they come out dark or flat", _amend(source, _STRETCH),
        )  # fmt: skip


_PIXEL_CHECKS: tuple[Callable[[Source, Sample], Iterator[Finding]], ...] = (
    _display_range, _value_range,
)  # fmt: skip
