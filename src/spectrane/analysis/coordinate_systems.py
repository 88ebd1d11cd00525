"""What a raster's coordinate system is called and says of its corners: found once, then kept."""

from __future__ import annotations

import math
from typing import Any, NamedTuple

from spectrane.engine.remembered import found_once, may_be_kept
from spectrane.model.errors import GridMismatch, MetadataError
from spectrane.model.grid import IMAGE_PLANE, Grid
from spectrane.model.source import Source
from spectrane.model.systems import LONLAT, parsed_system, way_between


class SystemFacts(NamedTuple):
    """A coordinate system's name, its unit, whether it is of longitude and latitude, and the
    corners in longitude and latitude; None for what nobody can tell.
    """

    name: str | None = None
    unit: str | None = None
    geographic: bool = False
    corners: list[list[float]] | None = None


def system_facts(source: Source) -> SystemFacts:
    """Return what the coordinate system of a source says.

    It is kept in the user's cache: parsing a system takes longer than describing a raster.
    """
    grid = source.grid
    given = grid.crs_name if grid.crs_name != grid.crs_text else None
    unnamed = SystemFacts(given, "mm" if given == IMAGE_PLANE else None)
    if grid.crs_text is None:
        return unnamed
    key = (
        ("coordinate system", grid.crs_text, grid.corners, grid.placed)
        if may_be_kept(source)
        else None
    )
    try:
        return SystemFacts(*found_once(key, lambda: list(_understood(grid))))
    except MetadataError:
        return unnamed  # a text that names no system is not kept: another day it may


def _understood(grid: Grid) -> SystemFacts:
    system: Any = parsed_system(str(grid.crs_text))
    unit = system.axis_info[0].unit_name if system.axis_info else None
    corners = None
    if grid.placed:
        try:
            turn = way_between(system, LONLAT)
            corners = [[round(v, 8) for v in turn.transform(*corner)] for corner in grid.corners]
        except GridMismatch:
            corners = None
    if corners and not all(math.isfinite(v) for corner in corners for v in corner):
        corners = None
    return SystemFacts(str(system.name), unit, bool(system.is_geographic), corners)
