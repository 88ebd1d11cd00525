"""Coordinate systems: the ways to name one, and whether its x is a longitude."""

from __future__ import annotations

import math
from collections.abc import Iterable
from functools import lru_cache
from typing import TYPE_CHECKING, Any

from spectrane.model.errors import GridMismatch, MetadataError

if TYPE_CHECKING:
    import pyproj

LONLAT = "EPSG:4326"
"""Longitude and latitude, in this order, as all positions here: x before y."""


def system_text(given: Any) -> str:
    """Return the text that names a coordinate system, however it was given.

    Raises MetadataError for what names none. The text itself is understood where it is used.

    >>> system_text(32727), system_text("32727"), system_text("EPSG:4326")
    ('EPSG:32727', 'EPSG:32727', 'EPSG:4326')
    """
    if isinstance(given, str) and given.strip():
        text = given.strip()
        return f"EPSG:{text}" if text.isdecimal() else text
    if isinstance(given, int) and not isinstance(given, bool):
        return f"EPSG:{given}"
    grid = getattr(given, "grid", given)
    if hasattr(grid, "crs_text"):
        if grid.crs_text is None:
            raise MetadataError("crs: the grid given for it names no coordinate system itself")
        return str(grid.crs_text)
    if hasattr(given, "to_wkt") and hasattr(given, "to_epsg"):
        code = given.to_epsg()
        known = code is not None and parsed_system(f"EPSG:{code}") == given
        return f"EPSG:{code}" if known else str(given.to_wkt())
    raise MetadataError(
        f"crs {given!r:.80}: expected text such as EPSG:32727 or WKT, an EPSG number, a "
        "pyproj.CRS, or a grid"
    )


def system_text_or_none(given: Any) -> str | None:
    """Return the text that names a coordinate system; None for None."""
    return None if given is None else system_text(given)


def parsed_system(text: str) -> pyproj.CRS:
    """Return the coordinate system of a text. Raises MetadataError where it names none."""
    system = _understood(text)
    if system is None:
        raise MetadataError(
            f"coordinate system {text[:200]!r}: not a code or WKT that can be parsed; "
            "give its EPSG code"
        )
    return system


@lru_cache(256)
def _understood(text: str) -> pyproj.CRS | None:
    """Return the system of a text, or None: that a text names none takes half a second to find."""
    import pyproj

    try:
        return pyproj.CRS.from_user_input(text)
    except pyproj.exceptions.CRSError:
        return None


def way_between(first: Any, second: Any) -> pyproj.Transformer:
    """Return the way from one coordinate system to another; x before y in both.

    Systems are texts or pyproj's objects. Raises MetadataError for a text that names none, and
    GridMismatch where nothing leads from one to the other.

    >>> x, y = way_between("EPSG:4326", "EPSG:32627").transform(-21.0, 0.0)
    >>> round(x), round(y)
    (500000, 0)
    """
    import pyproj

    start, end = (parsed_system(one) if isinstance(one, str) else one for one in (first, second))
    try:
        return pyproj.Transformer.from_crs(start, end, always_xy=True)
    except pyproj.exceptions.ProjError as error:
        raise GridMismatch(f"nothing leads from {start.name} to {end.name}: {error}") from error


def same_system(first: str, second: str) -> bool:
    """Tell whether two texts name one system, whatever order they give its axes in."""
    return first == second or parsed_system(first).equals(
        parsed_system(second), ignore_axis_order=True
    )


@lru_cache(64)
def turn_of(text: str | None) -> float | None:
    """Return a whole turn in the unit of x where x is a longitude; None where it is none.

    >>> turn_of("EPSG:4326"), turn_of("EPSG:32727"), turn_of(None)
    (360.0, None, None)
    """
    if text is None:
        return None
    if text in (LONLAT, "OGC:CRS84"):
        return 360.0
    try:
        system = parsed_system(text)
    except MetadataError:
        return None
    if not system.is_geographic:
        return None
    unit = float(system.axis_info[0].unit_conversion_factor)  # radians
    return round(2 * math.pi / unit, 9) if unit > 0 else None


def checked_system(given: Any) -> str:
    """Return the text of a coordinate system that can be understood. Raises MetadataError else."""
    text = system_text(given)
    parsed_system(text)
    return text


def check_latitudes(what: str, positions: Iterable[tuple[float, float]], crs: str | None) -> None:
    """Raise GridMismatch for positions (x, y) whose y cannot be a latitude, with the likely cure.

    Nothing is checked where x is no longitude.

    >>> check_latitudes("bounds", [(120.21, -35.42)], "EPSG:4326")
    """
    turn = turn_of(crs)
    if turn is None:
        return
    most, given = turn / 4 * (1 + 1e-9), list(positions)
    wrong = [(x, y) for x, y in given if not (abs(y) <= most and abs(x) <= 2 * turn)]
    if not wrong:
        return
    x, y = wrong[0]
    swapped = all(abs(x) <= most and abs(y) <= 2 * turn for x, y in given)
    cure = "; the order is x,y: longitude first, which these are the other way round" * swapped
    raise GridMismatch(
        f"{what}: {x:.10g},{y:.10g} is no longitude and latitude in {str(crs)[:60]}, where "
        f"latitudes end at {turn / 4:g}{cure or '; check the numbers and the coordinate system'}"
    )
