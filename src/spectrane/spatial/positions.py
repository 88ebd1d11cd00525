"""Positions as people write them, and how each was read: the one parser of them.

``490000,7357000`` on the raster's map; ``-21.05,-23.9`` longitude and latitude; ``23°54'S 21°3'W``
or ``23.9 S, 21.05 W`` in degrees, minutes and seconds, in any order; ``27K VP 9000 5700`` an MGRS
grid reference; ``barrage in stations.csv`` a point of a file by its name.
"""

from __future__ import annotations

import math
import os
import re
from collections.abc import Mapping
from typing import Any

from spectrane.kernels.records import record
from spectrane.model.errors import LookError, nearest
from spectrane.model.grid import Grid
from spectrane.model.systems import LONLAT, way_between

_NUMBER = r"[-+]?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?"
_PAIR = re.compile(rf"\s*({_NUMBER})\s*[,; ]\s*({_NUMBER})\s*$")
_SIDE = re.compile(
    r"""\s*(?P<first>[NSEWnsew])?\s*(?P<sign>[-+])?(?P<d>\d+(?:\.\d+)?)\s*(?:°|º|d|:|\s)?\s*
    (?:(?P<m>\d+(?:\.\d+)?)\s*(?:['′’m:]|\s)?\s*)?(?:(?P<s>\d+(?:\.\d+)?)\s*(?:"|″|”|''|s)?\s*)?
    (?P<last>[NSEWnsew])?\s*$""",
    re.VERBOSE,
)  # fmt: skip
_MGRS = re.compile(r"(\d{1,2})\s*([C-HJ-NP-X])\s*([A-HJ-NP-Z])\s*([A-HJ-NP-V])\s*([\d\s]*)$",
                   re.IGNORECASE)  # fmt: skip
_BANDS = "CDEFGHJKLMNPQRSTUVWX"
_COLUMNS = ("ABCDEFGH", "JKLMNPQR", "STUVWXYZ")
_ROWS = "ABCDEFGHJKLMNPQRSTUV"


@record(frozen=True)
class Position:
    """x and y in ``crs`` (None: the raster's own system), and how they were read, in words."""

    x: float
    y: float
    crs: str | None
    said: str


def read_position(text: str, grid: Grid | None = None, *, crs: str | None = None) -> Position:
    """Return the position that a text names on a raster's grid.

    Two plain numbers are x and y of ``crs``, else of the grid's system; where they lie outside the
    grid and are longitude and latitude of a place inside it, they are those. Raises LookError for
    what is no position, with the ways to write one.

    >>> read_position("490000,7357000").said
    'x 490000, y 7357000'
    >>> found = read_position("23°54'S 21°03'W")
    >>> round(found.x, 6), round(found.y, 6), found.crs
    (-21.05, -23.9, 'EPSG:4326')
    """
    pair = _PAIR.match(text)
    if pair is not None:
        return _plain(float(pair[1]), float(pair[2]), grid, crs)
    found = _grid_reference(text) or _degrees(text) or _named(text)
    if found is None:
        raise LookError(
            f"position {text!r}: expected x,y or longitude,latitude, degrees such as "
            "23°54'S 21°3'W, an MGRS grid reference such as 27KVP90005700, or NAME in FILE"
        )
    return found


def _plain(x: float, y: float, grid: Grid | None, crs: str | None) -> Position:
    if not math.isfinite(x + y):
        raise LookError(f"position {x}, {y}: expected finite numbers")
    said = Position(x, y, crs, f"x {x:.10g}, y {y:.10g}" + (f" in {crs}" if crs else ""))
    if crs is not None or grid is None or not grid.placed or not grid.crs_text:
        return said
    system = grid.crs
    if system is None or system.is_geographic or _inside(grid, x, y):
        return said
    if abs(x) <= 180 and abs(y) <= 90:
        there = way_between(LONLAT, grid.crs_text).transform(x, y)
        if _inside(grid, *there):
            return Position(x, y, LONLAT, f"longitude {x:.10g}, latitude {y:.10g}, since there is "
                            "nothing at such x and y")  # fmt: skip
    return said


def _inside(grid: Grid, x: float, y: float) -> bool:
    if not math.isfinite(x + y):
        return False
    column, row = grid.position(x=x, y=y)
    return 0 <= row <= grid.shape[0] and 0 <= column <= grid.shape[1]


def _degrees(text: str) -> Position | None:
    """Read two angles with hemispheres, in either order."""
    halves = _halves(text)
    if halves is None:
        return None
    read: dict[str, float] = {}
    for half in halves:
        angle = _angle(half, text)
        if angle is None:
            return None
        read[angle[0]] = angle[1]
    if len(read) != 2:
        what = "latitudes" if "y" in read else "longitudes"
        raise LookError(f"position {text!r}: says two {what}; expected one of N and S, and one of "
                        "E and W")  # fmt: skip
    x, y = read["x"], read["y"]
    if abs(y) > 90 or abs(x) > 360:
        raise LookError(f"position {text!r}: latitude {y:.10g} or longitude {x:.10g} cannot be")
    return Position(x, y, LONLAT, f"longitude {x:.8f}, latitude {y:.8f}")


def _halves(text: str) -> tuple[str, str] | None:
    """Split at a comma, or after the first hemisphere's letter, or before the second's."""
    if len(re.findall(r"[NSEWnsew](?![a-z])", text)) != 2:
        return None
    comma = text.split(",")
    if len(comma) == 2:
        return comma[0], comma[1]
    after = re.match(r"(.*?\d[^NSEWnsew]*[NSEWnsew])\s*(.*\d.*[NSEWnsew])\s*$", text)
    before = re.match(r"\s*([NSEWnsew].*?\d[^NSEWnsew]*)([NSEWnsew].*\d.*)$", text)
    found = after or before
    return None if found is None else (found[1], found[2])


def _angle(half: str, text: str) -> tuple[str, float] | None:
    found = _SIDE.match(half)
    if found is None or (found["first"] is None) == (found["last"] is None):
        return None
    minutes, seconds = float(found["m"] or 0), float(found["s"] or 0)
    if minutes >= 60 or seconds >= 60 or (found["sign"] and found["sign"] == "-"):
        raise LookError(f"position {text!r}: {half.strip()!r}: expected minutes and seconds below "
                        "60, and a hemisphere instead of a sign")  # fmt: skip
    letter = (found["first"] or found["last"]).upper()
    value = float(found["d"]) + minutes / 60 + seconds / 3600
    return ("y" if letter in "NS" else "x"), (-value if letter in "SW" else value)


def _grid_reference(text: str) -> Position | None:
    """Read an MGRS reference (NGA.SIG.0012): the middle of the square that it names.

    >>> found = _grid_reference("27K VP 90000 57000")
    >>> found.x, found.y, found.crs
    (490000.5, 7357000.5, 'EPSG:32727')
    """
    found = _MGRS.match(text.strip())
    if found is None:
        return None
    zone, band, column, row = int(found[1]), *(letter.upper() for letter in found.groups()[1:4])
    digits = re.sub(r"\s", "", found[5])
    columns = _COLUMNS[(zone - 1) % 3]
    if not 1 <= zone <= 60 or len(digits) % 2 or len(digits) > 10 or column not in columns:
        raise LookError(f"position {text!r}: no MGRS grid reference: expected a zone up to 60, a "
                        f"column of {columns}, and an even number of digits up to 10")  # fmt: skip
    half = len(digits) // 2
    side = 10.0 ** (5 - half)
    east = (columns.index(column) + 1) * 1e5 + (int(digits[:half] or 0) + 0.5) * side
    north = ((_ROWS.index(row) - (0 if zone % 2 else 5)) % 20) * 1e5
    north += (int(digits[half:] or 0) + 0.5) * side
    code = f"EPSG:{(32600 if band >= 'N' else 32700) + zone}"
    north = _in_band(code, east, north, band, text)
    written = f"{zone}{band} {column}{row} {digits[:half]} {digits[half:]}".strip()
    return Position(east, north, code, f"MGRS {written}, the middle of its square of {side:g} m: "
                    f"x {east:.10g}, y {north:.10g} in {code}")  # fmt: skip


def _in_band(code: str, east: float, north: float, band: str, text: str) -> float:
    """Return the northing, one of those 2000 km apart, that lies in a band of latitude."""
    lowest = -80 + 8 * _BANDS.index(band)
    highest = lowest + (12 if band == "X" else 8)
    way = way_between(code, LONLAT)
    for thousands in range(6):
        y = north + thousands * 2e6
        latitude = float(way.transform(east, y)[1])
        if lowest - 1 <= latitude <= highest + 1 and 0 <= y <= 1e7:
            return y
    raise LookError(f"position {text!r}: no MGRS grid reference: its square is not in band {band}")


def _named(text: str) -> Position | None:
    name, word, path = text.rpartition(" in ")
    if not word or not os.path.exists(path.strip()):
        return None
    return point_called(name.strip(), path.strip())


def point_called(name: str, path: str) -> Position:
    """Return the point of a CSV, GeoJSON or GeoPackage file that has a name.

    Raises LookError where there is none of that name, or several.
    """
    from spectrane.spatial.regions import listed_points

    points: list[Mapping[str, Any]] = [
        one for one in listed_points(path) if isinstance(one, Mapping)
    ]
    wanted = name.casefold()
    called = [one for one in points if _name_of(one).casefold() == wanted]
    names = [_name_of(one) for one in points]
    if len(called) != 1 or called[0].get("x") is None:
        what = f"{len(called)} points are called" if len(called) > 1 else "no point is called"
        raise LookError(f"position: {what} {name!r} in {path}{nearest(name, names)}")
    one = called[0]
    x, y = float(one["x"]), float(one["y"])
    crs = str(one["crs"]) if one.get("crs") else None
    return Position(x, y, crs, f"{name} in {path}: x {x:.10g}, y {y:.10g}"
                    + (f" in {crs}" if crs else ""))  # fmt: skip


def _name_of(point: Mapping[str, Any]) -> str:
    return str(point.get("name") or point.get("point") or "")
