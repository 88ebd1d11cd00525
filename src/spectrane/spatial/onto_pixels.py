"""Vector shapes brought onto the pixels of a raster."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import GridMismatch, LookError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.longitudes import nearest_shift, shifts
from spectrane.model.systems import same_system, turn_of, way_between
from spectrane.model.telling import warn_caller
from spectrane.spatial.polygons import Polygons, Ring
from spectrane.spatial.shapes import Shapes, shapes_of

_CURVED = 0.05
"""Edges that another system bends by more than so many pixels are broken up."""
_BREAKS = 12


class Way:
    """The way of positions to a grid's pixels: through the coordinate systems, and round the globe.

    ``curved``: an edge is broken up where it bends by more than so many pixels. Raises LookError
    for positions that cannot be in the system that was assumed of them, GridMismatch where nothing
    leads from their system to the grid's.
    """

    def __init__(self, shapes: Shapes, grid: Grid, curved: float = _CURVED) -> None:
        self.grid, self.curved = grid, curved
        self._inverse = np.asarray(np.linalg.inv(grid.matrix), np.float64)
        self._turn = grid.turn
        self._round = shapes.crs is None or turn_of(shapes.crs) is not None
        self._through = None
        if shapes.crs is not None and grid.crs is not None and grid.placed:
            shapes.check_degrees()
            self._through = _transformer(shapes, grid)
        elif shapes.crs is not None and not shapes.assumed:
            _tell_unknown(shapes, grid)

    def pixels(self, points: Ring, *, closed: bool) -> list[Ring]:
        """Return a line's pixel positions: once, or as often as it meets the grid on the globe."""
        points = self._bent(points, closed)
        placed = self._placed(points)
        if self._turn is None:
            return [self._on_pixels(placed)]
        x_min, _, x_max, _ = self.grid.bounds
        span = (float(placed[:, 0].min()), float(placed[:, 0].max()))
        turns = shifts(span, (x_min, x_max), self._turn) or [
            nearest_shift(span, (x_min, x_max), self._turn)]  # fmt: skip
        return [self._on_pixels(placed + np.array([shift, 0.0])) for shift in turns]

    def _bent(self, points: Ring, closed: bool) -> Ring:
        for _ in range(_BREAKS if self._through is not None and len(points) > 1 else 0):
            following = np.roll(points, -1, axis=0)
            both = self._placed(np.concatenate([points, (points + following) / 2]))
            ends, middles = both[: len(points)], both[len(points) :]
            middles[:, 0] += self._turns(ends[:, 0] - middles[:, 0])
            after = np.roll(ends, -1, axis=0)
            after[:, 0] += self._turns(ends[:, 0] - after[:, 0])
            off = (middles - (ends + after) / 2) @ self._inverse[:2, :2].T
            bent = np.hypot(off[:, 0], off[:, 1]) > self.curved
            if not closed:
                bent[-1] = False
            where = np.flatnonzero(bent)
            if not where.size:
                break
            points = np.insert(points, where + 1, ((points + following) / 2)[where], axis=0)
        return points

    def _turns(self, off: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the whole turns by which neighbours on the ground are apart in longitude."""
        if self._turn is None or self._round:
            return np.zeros_like(off)
        return np.asarray(np.round(off / self._turn) * self._turn)

    def _placed(self, points: Ring) -> Ring:
        """Return map positions; a line that crosses the antimeridian runs on beyond it."""
        if self._through is None:
            return points
        x, y = self._through.transform(points[:, 0], points[:, 1])
        if not (np.isfinite(x).all() and np.isfinite(y).all()):
            raise GridMismatch("the shape cannot be brought to the raster's coordinate system")
        if self._turn is not None and self._round:
            x = x + np.round((points[:, 0] - x) / self._turn) * self._turn
        elif self._turn is not None:
            x = np.unwrap(x, period=self._turn)
        return np.column_stack([x, y])

    def _on_pixels(self, placed: Ring) -> Ring:
        return np.asarray(placed @ self._inverse[:2, :2].T + self._inverse[:2, 2])


def _tell_unknown(shapes: Shapes, grid: Grid) -> None:
    """Say that nothing leads from the shapes' system to a raster that names none."""
    if not grid.placed:
        raise GridMismatch(
            f"{shapes.title}: is in {shapes.crs}, and the raster has no place on a map; give it "
            "one first (spectrane place)"
        )
    warn_caller(
        f"{shapes.title}: is in {shapes.crs}, and the raster names no coordinate system; its "
        "positions are taken to be in the same (spectrane amend --crs says which it is)"
    )


def _transformer(shapes: Shapes, grid: Grid) -> Any:
    """Return the way from the shapes' system to a grid's; None where they are one."""
    given, own = str(shapes.crs), str(grid.crs_text)
    try:
        return None if same_system(given, own) else way_between(given, own)
    except (GridMismatch, MetadataError) as error:
        raise GridMismatch(
            f"{shapes.title}: its system {shapes.crs!r} cannot be used: {error}"
        ) from error


def polygons_of(grid: Grid, given: Any, *, crs: Any = None) -> Polygons:
    """Return the polygons of shapes in pixel positions of a grid.

    A ring that crosses itself is mended, with a warning. Raises LookError for what holds no
    polygon, or positions that cannot be degrees; GridMismatch for what cannot be brought there.
    """
    shapes = shapes_of(given, crs=crs)
    polygons = [list(part.rings) for feature in shapes.features for part in shapes.parts(feature)
             if part.kind == "polygon"]  # fmt: skip
    if not polygons:
        raise LookError(
            f"{shapes.title}: expected a Polygon or MultiPolygon with at least one ring"
        )
    polygons = _mended(polygons)
    way = Way(shapes, grid)
    exteriors = [copy for polygon in polygons for copy in way.pixels(polygon[0], closed=True)]
    holes = [copy for polygon in polygons for ring in polygon[1:]
             for copy in way.pixels(ring, closed=True)]  # fmt: skip
    return Polygons.of(exteriors, holes)


def _mended(polygons: list[list[Ring]]) -> list[list[Ring]]:
    """Return the polygons with rings that cross themselves taken apart, and say so."""
    import shapely

    made = np.array([
        shapely.polygons(
            shapely.linearrings(rings[0]), [shapely.linearrings(hole) for hole in rings[1:]] or None
        )
        for rings in polygons
    ])  # fmt: skip
    valid = shapely.is_valid(made)
    if valid.all():
        return polygons
    wrong = np.flatnonzero(~valid)
    reason = shapely.is_valid_reason(made[wrong[0]])
    warn_caller(
        f"{len(wrong)} of {len(polygons)} polygons cross or touch themselves ({reason}) and were "
        "mended by the even-odd rule; check that the area is the one meant"
    )
    mended = [polygons[k] for k in np.flatnonzero(valid)]
    for part in shapely.get_parts(shapely.make_valid(made[wrong])).tolist():
        for one in shapely.get_parts(part).tolist():
            if one.geom_type == "Polygon" and not one.is_empty:
                rings = [one.exterior, *one.interiors]
                mended.append([np.asarray(ring.coords)[:-1, :2] for ring in rings])
    if not mended:
        raise LookError("the polygons have no area")
    return mended
