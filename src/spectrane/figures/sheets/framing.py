"""Where a map lies on paper: the area it shows, at a scale that is exact, and its grid of dots."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import replace

from spectrane.display.sheet_settings import SheetSettings
from spectrane.figures.sheets.pen import MM, Box
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Bounds, Grid
from spectrane.model.printing import share_text
from spectrane.model.systems import way_between
from spectrane.model.telling import warn_caller
from spectrane.spatial.ground import Ground, ground_at

_ROUND = (1.0, 1.2, 1.25, 1.5, 1.6, 1.8, 2.0, 2.5, 3.0, 3.5, 4.0, 4.5, 5.0, 6.0, 7.0, 7.5, 8.0, 9.0)
_MOST_DOTS = 30_000
_CUT = 0.005
"""A share of the map that may be cut off without a word."""


@record(frozen=True)
class Extent:
    """What a map shows: bounds on the grid of its lowest raster, and what it measures there.

    ``ground`` is None where the grid has no unit, and ``why`` says so.
    """

    base: Grid
    bounds: Bounds
    ground: Ground | None
    why: str = ""
    chosen: bool = False
    """Whether the area was asked for, and must be shown whole."""
    center: tuple[float, float] | None = None
    """Around which all is shown that has room."""

    @property
    def middle(self) -> tuple[float, float]:
        """The middle of the bounds, or the place that was asked for."""
        if self.center is not None:
            return self.center
        x_min, y_min, x_max, y_max = self.bounds
        return (x_min + x_max) / 2, (y_min + y_max) / 2

    @property
    def size(self) -> tuple[float, float]:
        """Its width and height, in metres of the ground; in pixels where it has no unit."""
        x_min, y_min, x_max, y_max = self.bounds
        across, up = (1.0, 1.0) if self.ground is None else (self.ground.across, self.ground.up)
        return (x_max - x_min) * across, (y_max - y_min) * up

    def around(self, width: float, height: float) -> Extent:
        """Return the extent of so many metres around the middle."""
        x, y = self.middle
        across, up = (1.0, 1.0) if self.ground is None else (self.ground.across, self.ground.up)
        half_x, half_y = width / across / 2, height / up / 2
        return replace(self, bounds=(x - half_x, y - half_y, x + half_x, y + half_y))


@record(frozen=True)
class Framed:
    """A map's place on paper, the ``extent`` it shows, and the n of its scale 1:n, or None."""

    box: Box
    extent: Extent
    scale: float | None

    def grid(self, dots: int) -> Grid:
        """Return the grid of so many dots an inch that fills the frame."""
        columns, rows = (max(1, min(_MOST_DOTS, math.ceil(side / MM * dots - 1e-6)))
                         for side in (self.box.width, self.box.height))  # fmt: skip
        x_min, y_min, x_max, y_max = self.extent.bounds
        top, bottom = (y_max, y_min) if self.extent.base.y_up else (y_min, y_max)
        affine = (((x_max - x_min) / columns, 0.0, x_min), (0.0, (bottom - top) / rows, top),
                  (0.0, 0.0, 1.0))  # fmt: skip
        return replace(self.extent.base, shape=(rows, columns), affine=affine)


def extent_of(base: Grid, settings: SheetSettings) -> Extent:
    """Return what is shown of the lowest raster's grid: the area asked for, or all of it."""
    bounds = base.bounds if settings.area is None else _area(base, settings)
    center = None if settings.center is None else _center(base, settings)
    x, y = center or ((bounds[0] + bounds[2]) / 2, (bounds[1] + bounds[3]) / 2)
    try:
        ground, why = ground_at(base, x, y), ""
    except GridMismatch as error:
        ground, why = None, str(error)
    if ground is None and settings.scale is not None:
        raise GridMismatch(f"scale 1:{settings.scale:g}: {why}")
    if ground is None and settings.put.get("scale", "none") != "none":
        raise GridMismatch(f"a scale bar: {why}")
    return Extent(base, bounds, ground, why, settings.area is not None, center)


def _center(base: Grid, settings: SheetSettings) -> tuple[float, float]:
    assert settings.center is not None
    x, y = settings.center
    if settings.area_crs is not None:
        if base.crs_text is None:
            raise GridMismatch("center: the map has no coordinate system to bring it to")
        x, y = way_between(settings.area_crs, base.crs_text).transform(x, y)
    x = base.near(float(x))
    first, low, last, high = base.bounds
    if not (first <= x <= last and low <= y <= high):
        raise GridMismatch(
            f"center {settings.center}: lies outside the lowest raster, which covers {base.bounds}"
        )
    return x, float(y)


def _area(base: Grid, settings: SheetSettings) -> Bounds:
    assert settings.area is not None
    found = settings.area
    if settings.area_crs is not None:
        if base.crs_text is None:
            raise GridMismatch("area: the map has no coordinate system to bring it to")
        found = way_between(settings.area_crs, base.crs_text).transform_bounds(*found)
    x_min, y_min, x_max, y_max = (float(one) for one in found)
    if not (x_min < x_max and y_min < y_max) or not all(map(math.isfinite, found)):
        raise GridMismatch(f"area {settings.area}: expected x min < x max and y min < y max")
    shift = base.near((x_min + x_max) / 2) - (x_min + x_max) / 2
    x_min, x_max = x_min + shift, x_max + shift
    first, low, last, high = base.bounds
    if x_max <= first or x_min >= last or y_max <= low or y_min >= high:
        raise GridMismatch(
            f"area {settings.area}: does not touch the lowest raster, which covers {base.bounds}"
        )
    return x_min, y_min, x_max, y_max


def framed(extent: Extent, rooms: Sequence[Box], scale: float | None) -> list[Framed]:
    """Set maps of one extent into rooms on paper, all alike, at a scale 1:n or the best round one.

    Where a scale is given, what has no room is left out around the middle, unless the area was
    asked for: then LookError says how much paper it needs.
    """
    wide, high = min(room.width for room in rooms), min(room.height for room in rooms)
    if min(wide, high) < 15:
        raise LookError(f"the sheet leaves {max(0.0, wide):.0f} x {max(0.0, high):.0f} mm for the "
                        "map; take larger paper, smaller margins or fewer words")  # fmt: skip
    across, up = extent.size
    if extent.ground is None:
        factor = min(wide / across, high / up)
        return [_into(room, extent, across * factor, up * factor, None) for room in rooms]
    if scale is None:
        scale = round_scale(max(across * 1000 / wide, up * 1000 / high))
    need = across * 1000 / scale, up * 1000 / scale
    if extent.chosen and (need[0] > wide + 1e-6 or need[1] > high + 1e-6):
        fits = round_scale(max(across * 1000 / wide, up * 1000 / high))
        raise LookError(
            f"scale 1:{scale:g}: the area needs {need[0]:.0f} x {need[1]:.0f} mm, and the sheet "
            f"has {wide:.0f} x {high:.0f} mm for it; take larger paper, or 1:{fits:g}"
        )
    width, height = min(need[0], wide), min(need[1], high)
    if extent.center is not None:
        width, height = wide, high
    shown = extent.around(width * scale / 1000, height * scale / 1000)
    return [_into(room, shown, width, height, scale) for room in rooms]


def tell_cut(extent: Extent, frame: Framed) -> None:
    """Warn of a scale that leaves no room for all, where nobody said which part is meant."""
    whole, shown = extent.size, frame.extent.size
    share = math.prod(min(1.0, part / of) for part, of in zip(shown, whole, strict=True))
    if frame.scale is None or extent.chosen or extent.center is not None or share > 1 - _CUT:
        return
    warn_caller(f"the sheet shows {share_text(share)} of the map, around its middle: 1:"
                f"{frame.scale:g} leaves no room for more; say where (center), or leave the scale "
                "out to show all")  # fmt: skip


def _into(room: Box, extent: Extent, width: float, height: float, scale: float | None) -> Framed:
    box = Box(room.left + (room.width - width) / 2, room.top, width, height)
    return Framed(box, extent, scale)


def round_scale(least: float) -> float:
    """Return the next round n of 1:n that is no less.

    >>> round_scale(61234), round_scale(75000), round_scale(0.31)
    (70000.0, 75000.0, 0.35)
    """
    power = 10.0 ** math.floor(math.log10(least))
    for factor in (*_ROUND, 10.0):
        if factor * power >= least * (1 - 1e-9):
            return round(factor * power, 12)
    return 10.0 * power
