"""Swaths, whose pixels lie where their own longitudes and latitudes say, brought to a grid.

Distances are straight lines through a sphere of the earth's mean radius: of a few kilometres they
differ from those on the ground by less than one in a million.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.geolocation import F64, Geolocation
from spectrane.model.grid import CrsLike, Grid
from spectrane.model.longitudes import turned
from spectrane.model.physical import as_stored
from spectrane.model.pixels import Pixels
from spectrane.model.resampling import check_unmixed
from spectrane.model.source import Source
from spectrane.model.systems import checked_system
from spectrane.model.window import Window, block_window, blocks_touching, extent, relative, whole
from spectrane.spatial.coordinates import near, transformer
from spectrane.spatial.grids import covering

RADIUS = 6_371_008.8
"""The earth's mean radius in metres (IUGG)."""
KERNELS = ("nearest", "area")
_BLOCK = (256, 256)
_PIECE = (256, 256)
_LONLAT = Grid((1, 1), crs_text="EPSG:4326", placed=True, y_up=True)


def xyz(longitude: F64, latitude: F64) -> F64:
    """Return points (n, 3) on the unit sphere.

    >>> xyz(np.array([0.0, 90.0]), np.array([0.0, 0.0])).round(12).tolist()
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0]]
    """
    lon, lat = np.radians(longitude).ravel(), np.radians(latitude).ravel()
    return np.stack([np.cos(lat) * np.cos(lon), np.cos(lat) * np.sin(lon), np.sin(lat)], axis=1)


@record(frozen=True)
class _Balls:
    """A ball around the pixels of each block of a swath, and how far neighbours are apart."""

    windows: tuple[Window, ...]
    centers: F64
    radii: F64
    step: float

    @classmethod
    def around(cls, geolocation: Geolocation) -> _Balls:
        """Look once at every position, block by block."""
        windows, centers, radii, steps = [], [], [], []
        for window, points, longitude in _blocks(geolocation):
            if not len(points):
                continue
            center = points.mean(axis=0)
            windows.append(window)
            centers.append(center)
            radii.append(float(np.linalg.norm(points - center, axis=1).max()))
            steps.append(_step(points, longitude.shape))
        if not windows:
            raise GridMismatch("the swath's longitudes and latitudes name no place")
        known = [step for step in steps if step > 0]
        return cls(tuple(windows), np.array(centers), np.array(radii),
                   float(np.median(known)) if known else 0.0)  # fmt: skip

    def near(self, points: F64, reach: float) -> list[Window]:
        """Return the blocks with pixels that may lie within ``reach`` of one of these points."""
        center = points.mean(axis=0)
        radius = float(np.linalg.norm(points - center, axis=1).max())
        apart = np.linalg.norm(self.centers - center, axis=1)
        return [self.windows[k] for k in np.flatnonzero(apart <= radius + self.radii + reach)]


def _blocks(geolocation: Geolocation) -> Iterator[tuple[Window, F64, F64]]:
    everything = whole(geolocation.shape)
    for position in blocks_touching(everything, _BLOCK):
        window = block_window(position, _BLOCK, geolocation.shape)
        longitude, latitude = geolocation.read(window)
        points = xyz(longitude, latitude)
        yield window, points[np.isfinite(points).all(axis=1)], longitude


def _step(points: F64, shape: tuple[int, ...]) -> float:
    """Return how far pixels of a block lie apart: the square root of the area of each."""
    if len(points) != math.prod(shape) or min(shape) < 2:
        return 0.0
    cube = points.reshape(*shape, 3)
    down = np.linalg.norm(np.diff(cube, axis=0), axis=2)
    across = np.linalg.norm(np.diff(cube, axis=1), axis=2)
    return float(math.sqrt(np.median(down) * np.median(across)))


class FromSwath(Derived, FullSource):
    """A swath on a grid, made window by window from the pixels near it.

    ``nearest`` takes the pixel whose centre is nearest to that of the grid's, if it is ``within``
    so many metres; ``area`` the mean of those whose centres lie in the grid's pixel.
    """

    def __init__(
        self, parent: Source, grid: Grid, resample: str, within: float, balls: _Balls
    ) -> None:
        size = tuple(min(512, n) for n in grid.shape)
        told = {"swath": {"resample": resample, "within metres": within}}
        super().__init__(parent, grid=grid, block_shape=size, has_mask=True, axes=(),
                         metadata={**parent.metadata, **told}, nodata_when="any")  # fmt: skip
        self.resample, self.within, self.balls = resample, within, balls

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, piece by piece, so that memory stays bounded."""
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        (top, bottom), (left, right) = window
        for row in range(top, bottom, _PIECE[0]):
            for column in range(left, right, _PIECE[1]):
                piece = ((row, min(row + _PIECE[0], bottom)),
                         (column, min(column + _PIECE[1], right)))  # fmt: skip
                where = (slice(None), *relative(piece, window))
                fill = self._nearest if self.resample == "nearest" else self._mean
                fill(bands, piece, values[where], mask[where])
        rules = [self.bands[band].rule for band in bands]
        return Pixels(values, mask=mask, rules=rules)

    def _targets(self, window: Window) -> tuple[F64, F64]:
        """Return the points of a window's pixel centres, and those of its outline."""
        (top, bottom), (left, right) = window
        way = transformer(self.grid, _LONLAT)
        columns, rows = np.meshgrid(np.arange(left, right) + 0.5, np.arange(top, bottom) + 0.5)
        centers = xyz(*way.transform(*self.grid.to_map(columns, rows)))
        across, down = np.meshgrid(np.linspace(left, right, 9), np.linspace(top, bottom, 9))
        edges = xyz(*way.transform(*self.grid.to_map(across, down)))
        return centers, edges[np.isfinite(edges).all(axis=1)]

    def _found(
        self, bands: Sequence[int], edges: F64, reach: float
    ) -> Iterator[tuple[F64, F64, NDArray[Any], NDArray[np.bool_]]]:
        """Yield longitudes, latitudes, values (bands, n) and validity of the blocks near."""
        geolocation = self.parent.geolocation
        assert geolocation is not None
        for window in self.balls.near(edges, reach) if len(edges) else []:
            longitude, latitude = (part.ravel() for part in geolocation.read(window))
            known = np.isfinite(longitude) & np.isfinite(latitude)
            pixels = self.parent.read(bands, window)
            values = pixels.values.reshape(len(bands), -1)[:, known]
            valid = pixels.validity.reshape(len(bands), -1)[:, known]
            yield longitude[known], latitude[known], values, valid

    def _nearest(
        self, bands: Sequence[int], window: Window, out: NDArray[Any], mask: NDArray[np.bool_]
    ) -> None:
        from scipy.spatial import KDTree

        reach = self.within / RADIUS
        centers, edges = self._targets(window)
        nearest = list(self._found(bands, edges, reach))
        if not nearest:
            return
        points = np.concatenate([xyz(lon, lat) for lon, lat, _, _ in nearest])
        values = np.concatenate([one[2] for one in nearest], axis=1)
        valid = np.concatenate([one[3] for one in nearest], axis=1)
        on_earth = np.isfinite(centers).all(axis=1)
        away, index = KDTree(points).query(centers[on_earth], distance_upper_bound=reach)
        near = np.flatnonzero(on_earth)[np.isfinite(away)]
        index = index[np.isfinite(away)]
        rows, columns = np.divmod(near, out.shape[2])
        out[:, rows, columns] = values[:, index]
        mask[:, rows, columns] = valid[:, index]

    def _mean(
        self, bands: Sequence[int], window: Window, out: NDArray[Any], mask: NDArray[np.bool_]
    ) -> None:
        _, edges = self._targets(window)
        way = transformer(_LONLAT, self.grid)
        (top, bottom), (left, right) = window
        size = (bottom - top) * (right - left)
        sums, counts = np.zeros((2, len(bands), size))
        for longitude, latitude, values, valid in self._found(bands, edges, self.balls.step):
            x, y = way.transform(longitude, latitude)
            column, row = self.grid.from_map(near(self.grid, np.asarray(x)), np.asarray(y))
            inside = (row >= top) & (row < bottom) & (column >= left) & (column < right)
            cell = (np.floor(row[inside]) - top) * (right - left) + np.floor(column[inside]) - left
            cell = cell.astype(np.intp)
            for k in range(len(bands)):
                here = valid[k, inside]
                picked = values[k, inside][here].astype(np.float64)
                sums[k] += np.bincount(cell[here], picked, size)
                counts[k] += np.bincount(cell[here], minlength=size)
        with np.errstate(invalid="ignore"):
            means = np.where(counts > 0, sums / np.maximum(counts, 1), 0)
        out[...] = as_stored(means, self.dtype).reshape(out.shape)
        mask[...] = (counts > 0).reshape(mask.shape)


def regrid_swath(
    source: Source, grid: Grid | None, crs: CrsLike | None, pixel_size: Any, resample: str | None,
    within: float | None, force: bool,
) -> Source:  # fmt: skip
    """Return a swath on a grid: the one given, or one that covers it in a coordinate system.

    Raises LookError for another kernel than nearest and area, or for a distance that is none;
    GridMismatch where no pixel has a place there.
    """
    assert source.geolocation is not None
    kernel = resample or "nearest"
    if kernel not in KERNELS:
        raise LookError(f"resample {resample!r}: a swath is brought to a grid by nearest or area")
    check_unmixed(source.mixable, kernel, force)
    balls = _Balls.around(source.geolocation)
    reach = 1.5 * balls.step * RADIUS if within is None else float(within)
    if not 0 < reach < 1e7:
        raise LookError(f"within {within}: expected metres above 0")
    target = grid if grid is not None else _covering(
        source.geolocation, checked_system(crs or "EPSG:4326"), pixel_size, balls.step)  # fmt: skip
    if grid is not None and (not grid.placed or grid.crs is None):
        raise GridMismatch("regrid: a swath needs a grid with a place and a coordinate system")
    return FromSwath(source, target, kernel, reach, balls)


def _covering(geolocation: Geolocation, crs: str, pixel_size: Any, step: float) -> Grid:
    """Return a grid over all pixels of a swath; its pixels about as far apart as the swath's."""
    target = Grid((1, 1), crs_text=crs, placed=True, y_up=True)
    way = transformer(_LONLAT, target)
    geographic = bool(target.crs is not None and target.crs.is_geographic)
    middle: float | None = None
    least, most = np.full(2, np.inf), np.full(2, -np.inf)
    for position in blocks_touching(whole(geolocation.shape), _BLOCK):
        longitude, latitude = geolocation.read(block_window(position, _BLOCK, geolocation.shape))
        x, y = (np.asarray(part) for part in way.transform(longitude, latitude))
        known = np.isfinite(x) & np.isfinite(y)
        if not known.any():
            continue
        x, y = x[known], y[known]
        if geographic:  # around the first place, so that the antimeridian is no edge
            middle = float(x[0]) if middle is None else middle
            x = turned(x, middle, target.turn or 360.0)
        least = np.minimum(least, [x.min(), y.min()])
        most = np.maximum(most, [x.max(), y.max()])
    if not np.isfinite(least).all():
        raise GridMismatch(f"no pixel of the swath has a place in {crs}")
    sizes = _sizes(pixel_size, target, step, (least + most) / 2)
    half = np.array(sizes) / 2
    low, high = least - half, most + half
    return covering((low[0], low[1], high[0], high[1]), sizes, crs)


def _sizes(given: Any, target: Grid, step: float, middle: F64) -> tuple[float, float]:
    if given is not None:
        pair = given if isinstance(given, Sequence) else (given, given)
        return float(pair[0]), float(pair[1])
    metres = step * RADIUS or 1.0
    system = target.crs
    if system is not None and system.is_geographic:
        # Degrees of latitude in both, to two digits, as people write them.
        return (float(f"{math.degrees(metres / RADIUS):.2g}"),) * 2
    factor = system.axis_info[0].unit_conversion_factor if system is not None else 1.0
    return (float(f"{metres / factor:.2g}"),) * 2


def located(geolocation: Geolocation, x: float, y: float, crs: str | None) -> tuple[int, int]:
    """Return row and column of the pixel nearest to a place: longitude and latitude, or in ``crs``.

    Raises GridMismatch where none is within two pixels.
    """
    if crs is not None:
        given = Grid((1, 1), crs_text=checked_system(crs), placed=True)
        x, y = transformer(given, _LONLAT).transform(x, y)
    balls = _Balls.around(geolocation)
    point = xyz(np.array([x]), np.array([y]))
    best, found = 2 * balls.step, None
    for window in balls.near(point, best):
        longitude, latitude = geolocation.read(window)
        away = np.linalg.norm(xyz(longitude, latitude) - point, axis=1)
        index = int(np.argmin(np.where(np.isfinite(away), away, np.inf)))
        if away[index] <= best:
            row, column = divmod(index, longitude.shape[1])
            best, found = float(away[index]), (window[0][0] + row, window[1][0] + column)
    if found is None:
        raise GridMismatch(f"longitude {x:.6g}, latitude {y:.6g} lies off the swath")
    return found
