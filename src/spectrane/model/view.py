"""Views: which part of a raster is to be shown, and how large."""

from __future__ import annotations

import math
from dataclasses import replace
from typing import Any

from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError, MetadataError
from spectrane.model.grid import Bounds, CrsLike, Grid
from spectrane.model.longitudes import nearest_shift, shifts
from spectrane.model.shortly import short_repr
from spectrane.model.source import format_window, sizes
from spectrane.model.systems import system_text_or_none, way_between
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, extent, intersection, whole

LARGEST = (2048, 2048)
"""A picture without a size fits in this many rows and columns."""
SHOWN = (800, 1280)
"""Rows and columns of a picture around a centre that has no size."""
_LONGEST = 20.0


@record(frozen=True)
class View:
    """A part of a raster: by ``bounds``, by ``center`` and ``pixel``, or by ``rows``/``columns``.

    ``bounds`` are (x min, y min, x max, y max); ``center`` is (x, y) and ``pixel`` the side of a
    picture pixel in map units: the picture has exactly these pixels, and ``size`` (800 x 1280) of
    them, also where they lie outside the raster. ``rows`` and ``columns`` are half-open
    pairs. ``crs`` is the system of ``bounds`` or ``center`` (``pixel`` stays in the raster's units)
    where it is not the raster's own. ``size`` is (rows, columns): the picture has it exactly where
    it has the area's proportions, and fits inside it otherwise, since pictures are never stretched:
    pixels that are not square on the map are not square in the picture either, unless ``stored``
    draws them pixel for pixel.

    >>> View(rows=(0, 100)).window(Grid((200, 300)))
    ((0, 100), (0, 300))
    """

    bounds: Bounds | None = None
    center: tuple[float, float] | None = None
    pixel: float | None = None
    rows: tuple[int, int] | None = None
    columns: tuple[int, int] | None = None
    size: tuple[int, int] | None = None
    crs: CrsLike | None = None
    stored: bool = False

    __repr__ = short_repr

    def __post_init__(self) -> None:
        """Check that the area is said in one way."""
        by_index = self.rows is not None or self.columns is not None
        ways = [self.bounds is not None, self.center is not None, by_index]
        if sum(ways) > 1:
            raise LookError("view: give bounds, or center and pixel, or rows and columns; not two")
        if (self.center is None) != (self.pixel is None):
            raise LookError("view: center and pixel go together")
        if self.center is not None and not 0 < (self.pixel or 0) < math.inf:
            raise LookError("view: center needs a pixel above 0")
        if self.size is not None:
            object.__setattr__(self, "size", sizes(self.size))
        object.__setattr__(self, "crs", system_text_or_none(self.crs))
        for name in ("rows", "columns"):
            if getattr(self, name) is not None:
                object.__setattr__(self, name, half_open(name, getattr(self, name)))
        if self.bounds is not None:
            object.__setattr__(self, "bounds", _four(self.bounds))

    def window(self, grid: Grid) -> Window:
        """Return the part of a grid that is seen; GridMismatch where they do not meet.

        >>> View(bounds=(1, 2, 3, 5)).window(Grid.from_corner((9, 9), x=0, y=9, pixel_size=1))
        ((4, 7), (1, 3))
        """
        wanted = self._wanted(grid)
        seen = intersection(wanted, whole(grid.shape))
        if seen is None:
            raise GridMismatch(self._miss(grid, wanted))
        return seen

    def span(self, grid: Grid) -> Window:
        """Return the part of a grid that is seen, over its edge where it goes all round the globe.

        Raises GridMismatch where they do not meet.

        >>> View(rows=(2, 5)).span(Grid((9, 9)))
        ((2, 5), (0, 9))
        """
        (rows, columns), wanted = self.window(grid), self._wanted(grid)
        first, last = wanted[1]
        by_index = self.rows is not None or self.columns is not None
        over = (first, last) != columns and not by_index and goes_round(grid)
        return rows, ((first, min(last, first + grid.columns)) if over else columns)

    def target(self, grid: Grid, size: tuple[int, ...] | None = None) -> Grid | None:
        """Return the grid whose pixels a picture around a centre has; None where none is given.

        ``size`` (rows, columns) is for a view without one.

        >>> grid = Grid.from_corner((9, 9), x=0, y=9, pixel_size=1)
        >>> View(center=(4, 4), pixel=2, size=(3, 3)).target(grid).bounds
        (1.0, 1.0, 7.0, 7.0)
        """
        if self.center is None or self.pixel is None:
            return None
        x_min, y_min, _, y_max = self._around(grid, size)
        top, down = (y_max, -self.pixel) if grid.y_up else (y_min, self.pixel)
        affine = ((self.pixel, 0.0, x_min), (0.0, down, top), (0.0, 0.0, 1.0))
        return replace(grid, shape=sizes(self.size or size or SHOWN), affine=affine)

    def _around(self, grid: Grid, size: tuple[int, ...] | None = None) -> Bounds:
        assert self.pixel is not None
        (x, y), (rows, columns) = self.middle(grid), sizes(self.size or size or SHOWN)
        half_x, half_y = columns * self.pixel / 2, rows * self.pixel / 2
        return x - half_x, y - half_y, x + half_x, y + half_y

    def shape(self, grid: Grid, window: Window, size: tuple[int, ...] | None) -> tuple[int, int]:
        """Return the rows and columns of the picture of a window: see ``fitted``.

        >>> grid = Grid.from_corner((8, 16), x=0, y=8, pixel_size=1)
        >>> View().shape(grid, ((0, 8), (0, 16)), (4, 4))
        (2, 4)
        """
        return fitted(window, size, (1.0, 1.0) if self.stored else proportion(grid, window))

    def _wanted(self, grid: Grid) -> Window:
        if self.center is not None and self.pixel is not None:
            return grid.window_of(self._around(grid))
        if self.bounds is not None:
            return grid.window_of(self._bounds(grid))
        return (_pair("rows", self.rows, grid.rows), _pair("columns", self.columns, grid.columns))

    def _turn(self, grid: Grid) -> Any:
        """Return the way from the view's own coordinate system to the raster's."""
        if grid.crs is None:
            raise GridMismatch(
                f"view: positions are in {self.crs}, and the raster has no coordinate system; say "
                "which it is (spectrane amend --crs)"
            )
        try:
            return way_between(self.crs, grid.crs)
        except MetadataError as error:
            raise LookError(f"view: crs {self.crs!r}: not a code or WKT") from error

    def middle(self, grid: Grid) -> tuple[float, float]:
        """Return the view's centre in the raster's own coordinate system.

        >>> View(center=(5, 6), pixel=1).middle(Grid.from_corner((9, 9), x=0, y=9, pixel_size=1))
        (5.0, 6.0)
        """
        assert self.center is not None
        x, y = self.center if self.crs is None else self._turn(grid).transform(*self.center)
        return grid.near(float(x)), float(y)

    def _bounds(self, grid: Grid) -> Bounds:
        assert self.bounds is not None
        found = self.bounds if self.crs is None else self._turn(grid).transform_bounds(*self.bounds)
        x_min, y_min, x_max, y_max = (float(one) for one in found)
        first, _, last, _ = grid.bounds
        if first <= x_min < x_max <= last or grid.turn is None:
            return x_min, y_min, x_max, y_max
        # From west to east over the antimeridian west is the greater (RFC 7946, section 5.2).
        x_max += grid.turn if x_min > x_max else 0.0
        shift = nearest_shift((x_min, x_max), (first, last), grid.turn)
        if len(shifts((x_min, x_max), (first, last), grid.turn)) > 1 and not goes_round(grid):
            warn_caller(
                f"bounds {self.bounds} meet the raster, from {first:g} to {last:g}, at both its "
                "ends; the larger part alone is taken: ask for each by itself"
            )
        return x_min + shift, y_min, x_max + shift, y_max

    def _miss(self, grid: Grid, wanted: Window) -> str:
        if self.rows is None and self.columns is None:
            return (
                f"view: the area asked for does not touch the raster, which covers {grid.bounds}"
                f"{'' if grid.placed else ' (it has no place: the numbers are columns and rows)'}"
            )
        held = format_window(whole(grid.shape))
        return f"view: {format_window(wanted)} lie outside the raster's {held}"


def goes_round(grid: Grid) -> bool:
    """Tell whether the columns of an upright grid go once round the globe, to a pixel's thousandth.

    >>> goes_round(Grid.from_corner((1, 36), x=0, y=1, pixel_size=10, crs="EPSG:4326"))
    True
    """
    if grid.turn is None or grid.rotated:
        return False
    step = abs(grid.affine[0][0])
    return abs(grid.columns * step - grid.turn) < 1e-3 * step


def view_of(given: Any) -> View:
    """Return a view, all of a raster for None; LookError for what only looks like one."""
    if given is None:
        return View()
    if not isinstance(given, View):
        raise LookError(f"view {given!r}: expected a View, such as View(bounds=(X1, Y1, X2, Y2)) "
                        "or View(rows=(START, STOP))")  # fmt: skip
    return given


def half_open(what: str, given: Any) -> tuple[int, int]:
    """Return a half-open pair (start, stop) of whole numbers, or raise LookError.

    >>> half_open("rows", [2, 5])
    (2, 5)
    """
    try:
        start, stop = (int(n) for n in given)
    except (TypeError, ValueError, OverflowError):
        raise LookError(f"{what} {given!r}: expected a pair (start, stop), stop not included"
                        ) from None  # fmt: skip
    return start, stop


def _four(given: Any) -> Bounds:
    try:
        x_min, y_min, x_max, y_max = (float(n) for n in given)
    except (TypeError, ValueError):
        raise LookError(f"bounds {given!r}: expected (x min, y min, x max, y max)") from None
    return x_min, y_min, x_max, y_max


def _pair(what: str, given: tuple[int, int] | None, length: int) -> tuple[int, int]:
    if given is None:
        return 0, length
    start, stop = (int(n) for n in given)
    if start >= stop:
        raise LookError(f"view: {what} {given}: expected start < stop")
    return start, stop


def proportion(grid: Grid, window: Window) -> tuple[float, float]:
    """Return how many times as high, and as wide, as its shorter side a pixel is on the map.

    (1, 1) without a place, where it is nearer to square than the window tells, and beyond 20 times:
    then the axes hardly have one unit.

    >>> proportion(Grid.from_corner((9, 9), x=0, y=0, pixel_size=(10, 25)), ((0, 9), (0, 9)))
    (2.5, 1.0)
    """
    if not grid.placed:
        return 1.0, 1.0
    width, height = grid.pixel_size[:2]
    least = min(width, height)
    longer = max(width, height) / least
    if (longer - 1.0) * max(extent(window)) < 1.0 or longer > _LONGEST:
        return 1.0, 1.0
    return height / least, width / least


def fitted(
    window: Window, size: tuple[int, ...] | None, sides: tuple[float, float] = (1.0, 1.0)
) -> tuple[int, int]:
    """Return the picture's rows and columns: as large as fits in ``size`` without stretching.

    With no size, one picture pixel per raster pixel, up to 2048 along the longer side. ``sides``
    are a pixel's height and width by the shorter of them.

    >>> fitted(((0, 20000), (0, 20000)), (800, 1280))
    (800, 800)
    >>> fitted(((0, 30), (0, 40)), None), fitted(((0, 30), (0, 40)), None, (2.0, 1.0))
    ((30, 40), (60, 40))
    """
    rows, columns = (n * side for n, side in zip(extent(window), sides, strict=True))
    box_rows, box_columns = LARGEST if size is None else sizes(size)
    if size is None and rows <= box_rows and columns <= box_columns:
        return max(1, round(rows)), max(1, round(columns))
    scale = min(box_rows / rows, box_columns / columns)
    # A box within a pixel of the right proportions is taken at its word.
    along = [_near(rows * scale, box_rows), _near(columns * scale, box_columns)]
    return along[0], along[1]


def _near(wanted: float, box: int) -> int:
    return box if abs(wanted - box) < 1 else max(1, round(wanted))
