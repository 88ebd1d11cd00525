"""Giving a place on a map to a picture that has none: by corners, bounds or tie points."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.described import Described
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, nearest
from spectrane.model.grid import CrsLike, Grid
from spectrane.model.source import Source
from spectrane.model.systems import check_latitudes, checked_system, way_between
from spectrane.spatial.doubts import tell_far_off, tell_misfit, tell_stretched
from spectrane.spatial.fitting import Miss, Transformation, fit, misses, rms, suspects
from spectrane.spatial.grids import LARGEST, covering
from spectrane.spatial.regions import listed_points
from spectrane.spatial.regridded import Regridded, chosen_kernel, regrid
from spectrane.spatial.turned import upright

F64 = NDArray[np.float64]
_EDGE = 33


@quiet_methods
@record(frozen=True)
class Placement:
    """Where a picture was put: the fit, each tie point's miss, and their root mean square.

    ``suspects`` are the points of which one is likely wrong; more than one where the data cannot
    tell which.

    >>> import numpy as np, spectrane as sp
    >>> sp.placement(sp.from_array(np.zeros((4, 4))), bounds=(0, 0, 8, 8)).rms
    0.0
    """

    transformation: Transformation
    crs: str | None
    misses: tuple[Miss, ...]
    suspects: tuple[str, ...] = ()

    @property
    def rms(self) -> float:
        """Root mean square of the misses in map units."""
        return rms([one.miss for one in self.misses])

    @property
    def rms_pixels(self) -> float:
        """Root mean square of the misses in pixels."""
        return rms([one.miss_pixels for one in self.misses])

    @property
    def worst(self) -> str | None:
        """The point that is wrong, or misses most; None where the data cannot tell which is wrong.

        By the standardised miss: its own, and that without it, times. A point that stands alone
        pulls the fit to itself: its miss is small, and large without it.
        """
        if not self.misses or len(self.suspects) > 1:
            return None
        if self.suspects:
            return self.suspects[0]
        return max(self.misses, key=lambda one: one.miss * (one.miss_alone or one.miss)).point

    def to_dict(self) -> dict[str, Any]:
        """Return everything as plain values.

        >>> import numpy as np, spectrane as sp
        >>> sp.placement(sp.from_array(np.zeros((4, 4))), bounds=(0, 0, 8, 8)).to_dict()["fit"]
        'affine'
        """
        return {
            "fit": self.transformation.kind, "crs": self.crs, "rms": self.rms,
            "rms_pixels": self.rms_pixels, "worst": self.worst, "suspects": list(self.suspects),
            "points": [asdict(one) for one in self.misses],
        }  # fmt: skip


def give_place(
    source: Source, *, corners: Any = None, bounds: Any = None, points: Any = None,
    crs: CrsLike | None = None, points_crs: CrsLike | None = None, fit_kind: str | None = None,
    resample: str | None = None, pixel_size: Any = None, force: bool = False,
    leave_out: Sequence[str] = (),
) -> tuple[Source, Placement]:  # fmt: skip
    """Return a source with a place on a map, and how well it fits.

    ``corners`` are the map positions of the first and the last pixel's outer corners, or of all
    four outer corners clockwise from the first pixel's; ``bounds`` (x min, y min, x max, y max);
    ``points`` tie points: mappings with row, column, x, y (corner-based), a CSV file, or a table.
    ``crs`` is the system of the result, ``points_crs`` that of the positions where it is another.
    ``fit_kind`` is ``similarity``, ``affine``, ``projective`` or ``polynomial`` (second order);
    None takes projective for four corners that are no parallelogram, and affine else. ``leave_out``
    names tie points that are not to be used.

    Where the fit is affine no pixel is touched: the grid may be rotated. Otherwise the result is
    lazily regridded. Raises GridMismatch for points that settle no fit, and latitudes that are
    none. Warns of misses of many pixels, of pixels that come out stretched, and of a place outside
    what the coordinate system is for.
    """
    made, placement, resampled = _place(
        source, corners=corners, bounds=bounds, points=points, crs=crs, points_crs=points_crs,
        fit_kind=fit_kind, resample=resample, pixel_size=pixel_size, force=force,
        leave_out=leave_out,
    )  # fmt: skip
    if not resampled and (pixel_size is not None or resample is not None):
        raise GridMismatch(
            f"place: the fit is {placement.transformation.kind}, by which no pixel is touched, so "
            "that pixel size and resample are not used; regrid what comes out"
        )
    return made, placement


def _place(
    source: Source, *, corners: Any = None, bounds: Any = None, points: Any = None,
    crs: CrsLike | None = None, points_crs: CrsLike | None = None, fit_kind: str | None = None,
    resample: str | None = None, pixel_size: Any = None, force: bool = False,
    leave_out: Sequence[str] = (),
) -> tuple[Source, Placement, bool]:  # fmt: skip
    """Return what ``place`` does, and whether it is resampled."""
    source = upright(source)
    ways = [way is not None for way in (corners, bounds, points)]
    if sum(ways) != 1:
        raise GridMismatch("place: give corners, or bounds, or points; one of them")
    crs, points_crs = (None if one is None else checked_system(one) for one in (crs, points_crs))
    if crs is None:
        crs, points_crs = points_crs, None
    if points is None and points_crs is not None and points_crs != crs:
        # Straight in the corners' own system, and regridded from there: not straight in both.
        made, placement, _ = _place(source, corners=corners, bounds=bounds, crs=points_crs,
                                    fit_kind=fit_kind, resample=resample, force=force)  # fmt: skip
        return regrid(made, crs=crs, pixel_size=pixel_size, resample=resample,
                      force=force), placement, True  # fmt: skip
    names, pixels, places = _given(source, corners, bounds, points, leave_out)
    check_latitudes("positions", places.tolist(), points_crs or crs)
    places = _brought(places, points_crs, crs)
    kind = fit_kind or _kind(pixels, places, points is not None)
    transformation = fit(pixels, places, kind)
    table = misses(names, pixels, places, transformation) if points is not None else []
    doubted = suspects(names, pixels, places, kind) if points is not None else ()
    placement = Placement(transformation, crs, tuple(table), doubted)
    tell_misfit(placement.rms_pixels, doubted, placement.worst)
    tell_stretched(source, transformation, crs)
    tell_far_off(places, crs)
    upright_corners = (
        points is None and places[0, 1] == places[1, 1] and (places[0, 0] == places[3, 0])
    )
    affine = _even(places, source.shape) if upright_corners else transformation.affine()
    metadata = {**source.metadata, "placement": placement.to_dict()}
    if affine is not None:
        grid = Grid(source.shape, affine, crs, y_up=True, placed=True)
        return Described(source, grid=grid, metadata=metadata), placement, False
    made = _warped(
        source, transformation, crs, chosen_kernel(source, resample, force=force), pixel_size
    )
    return Described(made, metadata=metadata), placement, True


def _even(places: F64, shape: tuple[int, ...]) -> tuple[tuple[float, ...], ...]:
    """Return the affine of corners along the axes, exactly."""
    (x0, y0), (x1, y1) = places[0].tolist(), places[2].tolist()
    return (((x1 - x0) / shape[1], 0.0, x0), (0.0, (y1 - y0) / shape[0], y0), (0.0, 0.0, 1.0))


def _warped(
    source: Source, transformation: Transformation, crs: str | None, kernel: str, pixel_size: Any
) -> Source:
    """Return the source on an upright grid that covers what it becomes."""
    rows, columns = source.shape
    down, across = np.linspace(0, rows, _EDGE), np.linspace(0, columns, _EDGE)
    c, r = np.meshgrid(across, down)
    x, y = transformation.forward(c, r)
    slopes = np.abs(np.linalg.det(transformation.slopes(c, r)))
    if not (np.isfinite(x).all() and np.isfinite(y).all() and slopes.min() > 0):
        raise GridMismatch("the fit folds the picture over; check the points, or fit affine")
    size = float(f"{np.sqrt(np.median(slopes)):.6g}")
    asked = size if pixel_size is None else pixel_size
    sizes = tuple(asked) if isinstance(asked, tuple | list) else (asked, asked)
    bounds = (float(x.min()), float(y.min()), float(x.max()), float(y.max()))
    grid = covering(bounds, (float(sizes[0]), float(sizes[1])), crs)
    if max(grid.shape) > min(LARGEST, 64 * max(source.shape)):
        raise GridMismatch(
            f"the fit spreads the picture over {grid.columns} x {grid.rows} pixels; check the "
            "points, or give a pixel size"
        )
    place_grid = Grid(source.shape, crs_text=crs, placed=True, y_up=True)
    return Regridded(source, grid, kernel, place=place_grid, warp=transformation.inverse)


def _given(
    source: Source, corners: Any, bounds: Any, points: Any, leave_out: Sequence[str]
) -> tuple[list[str], F64, F64]:
    rows, columns = source.shape
    if bounds is not None:
        x_min, y_min, x_max, y_max = _numbers("bounds", bounds, 4)
        if not (x_min < x_max and y_min < y_max):
            raise GridMismatch(f"bounds {tuple(bounds)}: expected x min < x max, y min < y max")
        corners = [(x_min, y_max), (x_max, y_max), (x_max, y_min), (x_min, y_min)]
    if corners is not None:
        positions = [_numbers("corner", corner, 2) for corner in corners]
        if len(positions) == 2:
            (x0, y0), (x1, y1) = positions
            if x0 == x1 or y0 == y1:
                raise GridMismatch(f"corners {positions}: the two lie on one line along an axis")
            positions = [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
        if len(positions) != 4:
            raise GridMismatch(f"corners: expected 2 or 4 of them, not {len(positions)}")
        pixels = [(0, 0), (columns, 0), (columns, rows), (0, rows)]
        return [str(k) for k in range(1, 5)], np.array(pixels, float), np.array(positions, float)
    return _without(leave_out, *_tie_points(points))


def _without(
    leave_out: Sequence[str], names: list[str], pixels: F64, places: F64
) -> tuple[list[str], F64, F64]:
    unwanted = [leave_out] if isinstance(leave_out, str) else [str(one) for one in leave_out]
    for one in unwanted:
        if one not in names:
            raise GridMismatch(f"leave out {one!r}: no such tie point{nearest(one, names)}")
    kept = [k for k, name in enumerate(names) if name not in unwanted]
    return [names[k] for k in kept], pixels[kept], places[kept]


def _numbers(what: str, given: Any, count: int) -> tuple[float, ...]:
    try:
        numbers = tuple(float(one) for one in given)
    except (TypeError, ValueError) as error:
        raise GridMismatch(f"{what} {given!r}: expected {count} numbers") from error
    if len(numbers) != count or not np.isfinite(numbers).all():
        raise GridMismatch(f"{what} {given!r}: expected {count} finite numbers")
    return numbers


def _tie_points(points: Any) -> tuple[list[str], F64, F64]:
    names, pixels, places = [], [], []
    rows: Iterable[Mapping[str, Any]] = listed_points(points)
    for number, point in enumerate(rows, 1):
        if isinstance(point, Sequence) and not isinstance(point, str):
            point = dict(zip(("row", "column", "x", "y"), point, strict=False))
        try:
            row, column, x, y = (float(point[key]) for key in ("row", "column", "x", "y"))
        except (KeyError, TypeError, ValueError) as error:
            raise GridMismatch(
                f"tie point {number}: expected row, column, x and y as numbers, not "
                f"{dict(point)!r:.120}"
            ) from error
        if not np.isfinite([row, column, x, y]).all():
            raise GridMismatch(f"tie point {number}: expected finite numbers, not {dict(point)!r}")
        names.append(str(point.get("name") or point.get("point") or number))
        pixels.append((column, row))
        places.append((x, y))
    if not names:
        raise GridMismatch("tie points: there are none")
    return names, np.array(pixels), np.array(places)


def _brought(places: F64, given: str | None, wanted: str | None) -> F64:
    """Bring positions into the result's coordinate system."""
    if given is None or wanted is None or given == wanted:
        return places
    way = way_between(given, wanted)
    x, y = way.transform(places[:, 0], places[:, 1])
    if not (np.isfinite(x).all() and np.isfinite(y).all()):
        raise GridMismatch(f"a tie point in {given} has no place in {wanted}: {places.tolist()}")
    return np.column_stack([x, y])


def _kind(pixels: F64, places: F64, tied: bool) -> str:
    """Return affine, unless four corners are no parallelogram: they settle a projective view."""
    if tied or len(places) != 4:
        return "affine" if len(places) >= 3 else "similarity"
    gap = places[0] + places[2] - places[1] - places[3]
    spread = float(np.ptp(places, axis=0).max())
    return "affine" if np.hypot(gap[0], gap[1]) <= 1e-9 * spread else "projective"
