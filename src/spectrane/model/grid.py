"""Grids: where pixels and voxels lie."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import field, replace
from typing import TYPE_CHECKING, TypeAlias, TypeVar, Union

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, MetadataError
from spectrane.model.systems import parsed_system, system_text_or_none, turn_of
from spectrane.model.window import Window, extent

if TYPE_CHECKING:
    import pyproj

Positions = TypeVar("Positions", float, NDArray[np.float64])
"""Numbers, or arrays of them."""
Affine: TypeAlias = tuple[tuple[float, ...], ...]
Bounds: TypeAlias = tuple[float, float, float, float]
CrsLike: TypeAlias = Union[str, int, "pyproj.CRS", "Grid"]
"""What names a coordinate system: text (EPSG:CODE, WKT), an EPSG number, a ``pyproj.CRS``, or a
grid, whose own it is."""

IMAGE_PLANE = "millimetres of the image's plane"
"""The name of the system of an image that lies in a patient, not on a map."""
_SNAP = 1e-6
"""Bounds this near (in pixels) to a pixel's edge are taken to lie on it."""


@record(frozen=True)
class Grid:
    """A regular grid in two dimensions or three.

    In two dimensions ``shape`` is (rows, columns) and ``affine`` (3x3) maps the corner
    (column, row) of a pixel to (x, y), so that the centre of a pixel lies at (column + ½,
    row + ½). In three, ``shape`` is (i, j, k) and ``affine`` (4x4) maps a voxel's centre
    (i, j, k) to patient millimetres (RAS+). ``crs_text`` is an EPSG code, WKT, or a citation
    that no program can parse, ``crs_name`` what the file calls it. ``y_up`` tells whether growing
    y means up the page; ``placed``, whether the grid lies anywhere but in its own pixels.
    ``plane`` tells images of one plane of one patient from others; None where nobody knows.

    >>> grid = Grid.from_corner((100, 200), x=500000, y=8000000, pixel_size=10)
    >>> grid.bounds
    (500000.0, 7999000.0, 502000.0, 8000000.0)
    >>> grid.center(row=0, column=0), grid.locate(x=500005, y=7999995)
    ((500005.0, 7999995.0), (0, 0))
    """

    shape: tuple[int, ...]
    affine: Affine = ((1.0, 0.0, 0.0), (0.0, 1.0, 0.0), (0.0, 0.0, 1.0))
    crs_text: str | None = None
    y_up: bool = False
    placed: bool = False
    crs_name: str | None = field(default=None, compare=False)
    plane: tuple[str, ...] | None = field(default=None, compare=False, repr=False)

    def __post_init__(self) -> None:
        """Check the affine's size and numbers; take a system however it is named."""
        if self.crs_text:
            object.__setattr__(self, "crs_text", system_text_or_none(self.crs_text))
        matrix = np.asarray(self.affine, float)
        order = len(self.shape) + 1
        if matrix.shape != (order, order) or not np.isfinite(matrix).all():
            raise MetadataError(
                f"affine: expected {order}x{order} finite numbers for a grid of "
                f"{len(self.shape)} dimensions, not {self.affine!r}"
            )
        if abs(np.linalg.det(matrix)) == 0.0:
            raise MetadataError(f"affine: pixels would have no area: {self.affine!r}")
        object.__setattr__(self, "shape", tuple(int(length) for length in self.shape))
        object.__setattr__(self, "affine", tuple(map(tuple, matrix.tolist())))

    @classmethod
    def from_corner(
        cls,
        shape: Sequence[int],
        *,
        x: float,
        y: float,
        pixel_size: float | tuple[float, float],
        crs: CrsLike | None = None,
    ) -> Grid:
        """Return an upright grid from the outer corner (x, y) of its first pixel.

        ``pixel_size`` is one size, or (x size, y size), in units of the coordinate system;
        y falls as rows grow.

        >>> Grid.from_corner((4, 5), x=100, y=40, pixel_size=10, crs="EPSG:32727").bounds
        (100.0, 0.0, 150.0, 40.0)
        """
        dx, dy = pixel_size if isinstance(pixel_size, tuple) else (pixel_size, pixel_size)
        affine = ((dx, 0.0, x), (0.0, -dy, y), (0.0, 0.0, 1.0))
        return cls(tuple(shape), affine, system_text_or_none(crs), y_up=True, placed=True)

    @property
    def rows(self) -> int:
        """Number of rows."""
        return self.shape[0]

    @property
    def columns(self) -> int:
        """Number of columns."""
        return self.shape[1]

    @property
    def matrix(self) -> NDArray[np.float64]:
        """The affine as an array."""
        return np.asarray(self.affine, np.float64)

    @property
    def coefficients(self) -> tuple[float, float, float, float, float, float]:
        """a, b, c, d, e, f: x = a·column + b·row + c, y = d·column + e·row + f."""
        (a, b, c), (d, e, f) = self.affine[0], self.affine[1]
        return a, b, c, d, e, f

    def polygon(self, rings: Sequence[NDArray[np.int64]]) -> dict[str, object]:
        """Return rings of corners, (n, 2) columns and rows, as a GeoJSON polygon on the map.

        The outer ring comes first. Rings that run with their inside at the right, rows counted
        down, are anticlockwise on the map (RFC 7946, 3.1.6).

        >>> Grid((2, 3)).polygon([np.array([[0, 0], [1, 0], [1, 1]])])["coordinates"]
        [[(0.0, 0.0), (1.0, 0.0), (1.0, 1.0), (0.0, 0.0)]]
        """
        mirrored = np.linalg.det(self.matrix[:2, :2]) < 0
        placed = []
        for ring in rings:
            x, y = self.to_map(ring[:, 0].astype(float), ring[:, 1].astype(float))
            points = np.stack([x, y], axis=1)
            points = points[::-1] if mirrored else points
            placed.append([*map(tuple, points.tolist()), tuple(points[0].tolist())])
        return {"type": "Polygon", "coordinates": placed}

    @property
    def __geo_interface__(self) -> dict[str, object]:
        """The outer edge of a map grid as a GeoJSON polygon, in its own coordinates.

        >>> Grid((2, 3)).__geo_interface__["coordinates"]
        [[(0.0, 0.0), (3.0, 0.0), (3.0, 2.0), (0.0, 2.0), (0.0, 0.0)]]
        """
        if len(self.shape) != 2:
            raise GridMismatch("a grid of voxels has no outline on a map")
        rows, columns = self.shape
        return self.polygon([np.array([[0, 0], [columns, 0], [columns, rows], [0, rows]])])

    def to_map(self, columns: Positions, rows: Positions) -> tuple[Positions, Positions]:
        """Return x and y of fractional corner-based columns and rows: numbers or arrays.

        >>> Grid.from_corner((2, 3), x=100, y=50, pixel_size=10, crs="EPSG:32727").to_map(1.5, 0.5)
        (115.0, 45.0)
        """
        a, b, c, d, e, f = self.coefficients
        return a * columns + b * rows + c, d * columns + e * rows + f

    def from_map(self, x: Positions, y: Positions) -> tuple[Positions, Positions]:
        """Return fractional corner-based columns and rows of x and y: numbers or arrays.

        >>> grid = Grid.from_corner((4, 5), x=100, y=40, pixel_size=10)
        >>> grid.from_map(np.array([105.0]), np.array([35.0]))
        (array([0.5]), array([0.5]))
        """
        (a, b, c), (d, e, f) = np.linalg.inv(self.matrix)[:2]
        with np.errstate(invalid="ignore"):
            return a * x + b * y + c, d * x + e * y + f

    @property
    def pixel_size(self) -> tuple[float, ...]:
        """The length of a pixel's side along each index: (x size, y size) for upright grids."""
        return tuple(np.hypot.reduce(self.matrix[:-1, :-1], axis=0).tolist())

    @property
    def rotated(self) -> bool:
        """Whether rows and columns run askew to x and y."""
        a, b, _, d, e, _ = self.coefficients
        return abs(b) + abs(d) > 1e-9 * (abs(a) + abs(e))

    @property
    def corners(self) -> tuple[tuple[float, float], ...]:
        """The four outer corners (x, y), clockwise from the first pixel's."""
        rows, columns = self.shape
        return tuple(
            self.to_map(c, r) for c, r in ((0, 0), (columns, 0), (columns, rows), (0, rows))
        )

    @property
    def bounds(self) -> Bounds:
        """(x min, y min, x max, y max) over the outer corners."""
        xs, ys = zip(*self.corners, strict=True)
        return min(xs), min(ys), max(xs), max(ys)

    @property
    def crs(self) -> pyproj.CRS | None:
        """The coordinate system, parsed from ``crs_text`` when asked.

        None where it has none, or only a text that names none which can be understood.
        """
        try:
            return None if self.crs_text is None else parsed_system(self.crs_text)
        except MetadataError:
            return None

    @property
    def turn(self) -> float | None:
        """A whole turn in the unit of x where x is a longitude; None where it is none."""
        return turn_of(self.crs_text) if self.placed and len(self.shape) == 2 else None

    def center(self, *, row: float, column: float) -> tuple[float, float]:
        """Return (x, y) of the centre of the pixel at a row and column (from 0).

        >>> Grid.from_corner((9, 9), x=100, y=90, pixel_size=10).center(row=0, column=1)
        (115.0, 85.0)
        """
        x, y = self.to_map(column + 0.5, row + 0.5)
        return x, y

    def locate(self, *, x: float, y: float) -> tuple[int, int]:
        """Return (row, column) of the pixel whose half-open area holds (x, y).

        A longitude is taken by whole turns to where the grid has it. The answer may lie outside
        the grid; the caller decides what that means.

        >>> Grid.from_corner((4, 5), x=100, y=40, pixel_size=10).locate(x=119, y=31)
        (0, 1)
        """
        column, row = self.position(x=self.near(x), y=y)
        return math.floor(row), math.floor(column)

    def near(self, x: float) -> float:
        """Return x, by whole turns over the grid or nearest to it where it is a longitude.

        >>> Grid.from_corner((1, 4), x=200, y=1, pixel_size=1, crs="EPSG:4326").near(-159.0)
        201.0
        """
        x_min, _, x_max, _ = self.bounds
        if x_min <= x < x_max or not math.isfinite(x) or self.turn is None:
            return x
        first = (
            x + math.ceil((x_min - x) / self.turn) * self.turn
        )  # the first from the west edge on
        return first if first - x_max < x_min - (first - self.turn) else first - self.turn

    def position(self, *, x: float, y: float) -> tuple[float, float]:
        """Return fractional corner-based (column, row) of a map position.

        >>> Grid.from_corner((4, 5), x=100, y=40, pixel_size=10).position(x=119, y=31)
        (1.9, 0.9)
        """
        column, row, _ = np.linalg.solve(self.matrix, (x, y, 1.0)).tolist()
        return column, row

    def window_of(self, bounds: Bounds) -> Window:
        """Return the window (may reach outside) that covers bounds, snapped outward to pixels.

        Raises GridMismatch when a pixel grid without a place is asked for map bounds that
        contradict themselves.

        >>> Grid.from_corner((4, 5), x=100, y=40, pixel_size=10).window_of((111, 5, 129, 19))
        ((2, 4), (1, 3))
        """
        x_min, y_min, x_max, y_max = map(float, bounds)
        if not (x_min < x_max and y_min < y_max):
            raise GridMismatch(
                f"bounds: expected x min < x max and y min < y max, not {tuple(bounds)}"
            )
        points = [self.position(x=x, y=y) for x in (x_min, x_max) for y in (y_min, y_max)]
        columns, rows = zip(*points, strict=True)
        return _snapped(rows), _snapped(columns)

    def cropped(self, window: Window) -> Grid:
        """Return the grid of a window of this one.

        >>> Grid((9, 9)).cropped(((2, 5), (0, 4))).shape
        (3, 4)
        """
        start = [a for a, _ in window]
        offset = start[::-1] if len(self.shape) == 2 else start
        moved = np.eye(len(self.shape) + 1)
        moved[:-1, -1] = offset
        return replace(self, shape=extent(window), affine=_frozen(self.matrix @ moved))

    def resized(self, size: Sequence[int]) -> Grid:
        """Return a grid of the same extent with another number of rows and columns.

        >>> Grid.from_corner((4, 6), x=0, y=4, pixel_size=1).resized((2, 3)).pixel_size
        (2.0, 2.0)
        """
        factors = [n / m for n, m in zip(self.shape, size, strict=True)]
        if len(self.shape) == 2:
            scale = np.diag([*factors[::-1], 1.0])
        else:
            scale = np.diag([*factors, 1.0])
            scale[:-1, -1] = [(factor - 1) / 2 for factor in factors]
        return replace(self, shape=tuple(size), affine=_frozen(self.matrix @ scale))

    def flips(self) -> tuple[bool, bool]:
        """Tell whether drawing upright takes rows, and columns, from last to first.

        One rule for every format: only where growing y means up and y grows with the row, and
        likewise where x falls with the column. Rotated grids are drawn along their own rows.

        >>> Grid.from_corner((9, 9), x=0, y=9, pixel_size=1).flips()
        (False, False)
        """
        if len(self.shape) != 2 or self.rotated:
            return False, False
        return self.y_up and self.affine[1][1] > 0, self.placed and self.affine[0][0] < 0

    def upright(self) -> Grid:
        """Return the grid as it is drawn: rows and columns flipped as ``flips`` says.

        >>> Grid.from_corner((4, 5), x=100, y=40, pixel_size=10).upright().shape
        (4, 5)
        """
        turn = np.eye(3)
        for axis, flipped in zip((1, 0), self.flips(), strict=True):
            if flipped:
                turn[axis, axis], turn[axis, 2] = -1.0, self.shape[1 - axis]
        return replace(self, affine=_frozen(self.matrix @ turn))


def _snapped(positions: Sequence[float]) -> tuple[int, int]:
    return math.floor(min(positions) + _SNAP), math.ceil(max(positions) - _SNAP)


def _frozen(matrix: NDArray[np.float64]) -> Affine:
    return tuple(map(tuple, matrix.tolist()))
