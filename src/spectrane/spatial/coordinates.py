"""From the pixels of one grid to those of another: exactly, or by a lattice that is checked."""

from __future__ import annotations

import contextlib
import threading
import warnings
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.gathering import bilinear_cells
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import IMAGE_PLANE, Grid
from spectrane.model.longitudes import nearest_shift, shifts, turned
from spectrane.model.systems import LONLAT, way_between
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, extent

F64 = NDArray[np.float64]
Positions = tuple[F64, F64]
"""Corner-based columns and rows."""
Warp = Callable[[F64, F64], Positions]
"""A picklable way from map positions to fractional columns and rows, where no affine does."""

TOLERANCE = 0.05
"""How far, in pixels of the input, a position may be off unless another bound is asked for."""
_STEPS = (64, 16)
_LOOKED_AT = 33
_SHARED = 64
_MET = 1e-6
"""Pixels of the source that a grid reaches into, at least, where the two meet."""
_POORER = 1.0
"""Metres by which a datum transformation at hand must be worse to be warned of."""


def shift_onto(grid: Grid, other: Grid) -> float | None:
    """Return the whole turns by which a grid of the same system must be moved to meet another.

    0 where x is no longitude; None where it meets it at several places round the globe.
    """
    if other.turn is None:
        return 0.0
    (first, _, last, _), (x_min, _, x_max, _) = grid.bounds, other.bounds
    turns = shifts((first, last), (x_min, x_max), other.turn)
    if len(turns) > 1:
        return None
    return turns[0] if turns else nearest_shift((first, last), (x_min, x_max), other.turn)


def moved_east(grid: Grid, by: float) -> Grid:
    """Return a grid with x raised by so much."""
    (a, b, c), *rest = grid.affine
    return replace(grid, affine=((a, b, c + by), *rest)) if by else grid


def near(grid: Grid, x: F64) -> F64:
    """Return x by whole turns within half a turn of a grid's middle where it is a longitude."""
    if grid.turn is None:
        return x
    return turned(x, (grid.bounds[0] + grid.bounds[2]) / 2, grid.turn)


@dataclass
class Mapping:
    """Where each pixel of ``target`` lies in ``source``.

    ``tolerance`` bounds the error of positions in pixels of ``source``; 0 computes each exactly.
    ``warp`` replaces the inverse of the source's affine. ``shift`` are the whole turns of longitude
    from the target's to the source's; None where each position has its own.

    >>> there = Mapping(Grid((4, 4)), Grid((4, 4), ((2, 0, 0), (0, 2, 0), (0, 0, 1))))
    >>> columns, rows = there.positions(((0, 1), (0, 3)))
    >>> columns.tolist(), rows.tolist()
    ([[0.25, 0.75, 1.25]], [[0.25, 0.25, 0.25]])
    """

    target: Grid
    source: Grid
    tolerance: float = TOLERANCE
    warp: Warp | None = None
    _way: Any = field(default=None, repr=False, compare=False)
    _lock: Any = field(default_factory=threading.Lock, repr=False, compare=False)

    def __post_init__(self) -> None:
        """Check that the grids can be related at all."""
        self.same_crs = check_related(self.target, self.source)
        self.affine = self.same_crs and self.warp is None
        alone = self.same_crs and self.warp is None
        self.shift = shift_onto(self.target, self.source) if alone else None

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_way": None, "_lock": None}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self._lock = threading.Lock()

    @property
    def way(self) -> Any:
        """The transformer from the target's system to the source's."""
        with self._lock:
            if self._way is None:
                self._way = transformer(self.target, self.source)
            return self._way

    def exact(self, columns: F64, rows: F64) -> Positions:
        """Return source positions of target positions; not finite where there are none."""
        x, y = self.target.to_map(columns, rows)
        if not self.same_crs:
            x, y = self.way.transform(x, y)
        if self.warp is not None:
            return self.warp(x, y)
        if self.shift is None:
            x = near(self.source, x)
        elif self.shift:
            x = x + self.shift
        return self.source.from_map(x, y)

    @property
    def straight(self) -> bool:
        """Whether rows and columns of the two run along one another, the same way."""
        grids = (self.target.matrix, self.source.matrix)
        level = all(one[0, 1] == one[1, 0] == 0 for one in grids)
        same = all((grids[0][k, k] > 0) == (grids[1][k, k] > 0) for k in (0, 1))
        return self.affine and self.shift is not None and level and same

    def lines(self, window: Window) -> Positions:
        """Return source columns and rows of the columns and rows of a window, where ``straight``:
        what ``positions`` has along its first row and column.
        """
        (top, bottom), (left, right) = window
        across: F64 = np.arange(left, right, dtype=np.float64) + 0.5
        down: F64 = np.arange(top, bottom, dtype=np.float64) + 0.5
        columns, _ = self.exact(across, np.full(len(across), down[0]))
        _, rows = self.exact(np.full(len(down), across[0]), down)
        return columns, rows

    def positions(self, window: Window) -> Positions:
        """Return source positions of the pixel centres of a window of the target."""
        (top, bottom), (left, right) = window
        if self.affine or self.tolerance <= 0:
            rows, columns = np.meshgrid(np.arange(top, bottom) + 0.5,
                                        np.arange(left, right) + 0.5, indexing="ij")  # fmt: skip
            return self.exact(columns, rows)
        out = (np.empty(extent(window)), np.empty(extent(window)))
        self._fill(window, window, 0, out)
        return out

    def _fill(self, window: Window, whole: Window, level: int, out: Positions) -> None:
        """Fill a part of ``out`` from a lattice anchored to the target, finer where it must be."""
        step = _STEPS[level]
        first = [start // step for start, _ in window]
        counts = [-(-stop // step) - begin for (_, stop), begin in zip(window, first, strict=True)]
        dense = [(begin + np.arange(2 * count + 1) / 2) * step
                 for begin, count in zip(first, counts, strict=True)]  # fmt: skip
        rows, columns = np.meshgrid(*dense, indexing="ij")
        positions = self.exact(columns, rows)
        good = _straight(positions, self.tolerance / 2)
        where = tuple(slice(a - o, b - o) for (a, b), (o, _) in zip(window, whole, strict=True))
        size = extent(window)
        fill = bilinear_cells.choose(size[0] * size[1])
        start = tuple(a + 0.5 - begin * step for (a, _), begin in zip(window, first, strict=True))
        if good.any():
            for plane, into in zip(positions, out, strict=True):
                nodes = np.ascontiguousarray(plane[::2, ::2])
                with np.errstate(invalid="ignore"):
                    fill(nodes, start, step, into[where])
        for r, c in np.argwhere(~good):
            cell = tuple(
                (max(a, (begin + k) * step), min(b, (begin + k + 1) * step))
                for (a, b), begin, k in zip(window, first, (r, c), strict=True)
            )
            self._fill_finer(cell, whole, level + 1, out)

    def _fill_finer(self, cell: Window, whole: Window, level: int, out: Positions) -> None:
        if level < len(_STEPS):
            self._fill(cell, whole, level, out)
            return
        (top, bottom), (left, right) = cell
        rows, columns = np.meshgrid(np.arange(top, bottom) + 0.5, np.arange(left, right) + 0.5,
                                    indexing="ij")  # fmt: skip
        where = tuple(slice(a - o, b - o) for (a, b), (o, _) in zip(cell, whole, strict=True))
        for into, plane in zip(out, self.exact(columns, rows), strict=True):
            into[where] = plane

    def scales(self) -> tuple[float, float]:
        """Return how many source rows and columns a target pixel covers: the median over both.

        Raises GridMismatch where the grids do not meet.
        """
        rows, columns, inside = self._ends() if self.straight else self._looked()
        if not inside.any():
            raise GridMismatch(
                f"the rasters do not meet: the grid covers {_said(self.target)}, the raster "
                f"{_said(self.source)}; check the coordinate systems and the area"
            )
        if self.affine and self.shift is not None:  # the same everywhere
            between = np.linalg.solve(self.source.matrix, self.target.matrix)[:2, :2]
            return float(np.hypot(*between[1])), float(np.hypot(*between[0]))
        r, c = rows[inside], columns[inside]
        nudge = 0.01
        here, right, below = (self.exact(c + dc, r + dr)
                              for dc, dr in ((0, 0), (nudge, 0), (0, nudge)))  # fmt: skip
        sizes = []
        for axis in (1, 0):
            across, down = ((one[axis] - here[axis]) / nudge for one in (right, below))
            length = np.hypot(across, down)
            sizes.append(float(np.median(length[np.isfinite(length)])))
        return sizes[0], sizes[1]

    def _ends(self) -> tuple[F64, F64, NDArray[np.bool_]]:
        """Return the target's corners, and whether rows and columns that run along the source's
        reach into it.
        """
        rows, columns = (np.array([0.0, n]) for n in self.target.shape)
        height, width = self.source.shape
        c, r = self.exact(columns, rows)
        met = [min(at.max(), n) - max(at.min(), 0) > _MET for at, n in ((c, width), (r, height))]
        return rows, columns, np.array([all(met)])

    def _looked(self) -> tuple[F64, F64, NDArray[np.bool_]]:
        """Return target positions spread over it, and over the source where that is smaller."""
        down, across = (np.linspace(0.5, n - 0.5, _LOOKED_AT) for n in self.target.shape)
        rows, columns = np.meshgrid(down, across, indexing="ij")
        inside = self._inside(columns, rows)
        if not inside.any():
            back = Mapping(self.source, self.target) if self.warp is None else None
            if back is not None:
                down, across = (np.linspace(0.5, n - 0.5, _LOOKED_AT) for n in self.source.shape)
                columns, rows = back.exact(*np.meshgrid(across, down))
                height, width = self.target.shape
                with np.errstate(invalid="ignore"):
                    inside = (rows >= 0) & (rows < height) & (columns >= 0) & (columns < width)
        return rows, columns, inside

    def _inside(self, columns: F64, rows: F64) -> NDArray[np.bool_]:
        c, r = self.exact(columns, rows)
        with np.errstate(invalid="ignore"):
            inside = (c >= 0) & (c < self.source.shape[1]) & (r >= 0) & (r < self.source.shape[0])
        return np.asarray(inside)


def share_inside(grid: Grid, other: Grid) -> float:
    """Return what share of a grid's area lies in another's, to about a thousandth."""
    down, across = ((np.arange(_SHARED) + 0.5) * n / _SHARED for n in grid.shape)
    columns, rows = Mapping(grid, other, 0).exact(*np.meshgrid(across, down))
    height, width = other.shape
    with np.errstate(invalid="ignore"):
        inside = (columns >= 0) & (columns < width) & (rows >= 0) & (rows < height)
    return float(inside.mean())


def tell_planes(named: Sequence[tuple[str, Grid]]) -> None:
    """Warn of images of patients whose millimetres have nothing to do with the first one's."""
    (name, first), *others = named
    if first.crs_name != IMAGE_PLANE:
        return
    apart = [other for other, grid in others if grid.plane is None or grid.plane != first.plane]
    if apart:
        warn_caller(
            f"{', '.join(apart)}: millimetres of another plane, or another patient's or none's "
            f"coordinates, than those of {name}: what lies on one another need not belong together"
        )


def _straight(dense: Positions, tolerance: float) -> NDArray[np.bool_]:
    """Tell which cells are bilinear enough, from their corners, edges' middles and middle."""
    good: Any = True
    for plane in dense:
        a, b = plane[:-2:2, :-2:2], plane[:-2:2, 2::2]
        c, d = plane[2::2, :-2:2], plane[2::2, 2::2]
        checks = (
            ((a + b) / 2, plane[:-2:2, 1::2]), ((c + d) / 2, plane[2::2, 1::2]),
            ((a + c) / 2, plane[1::2, :-2:2]), ((b + d) / 2, plane[1::2, 2::2]),
            ((a + b + c + d) / 4, plane[1::2, 1::2]),
        )  # fmt: skip
        for estimate, real in checks:
            with np.errstate(invalid="ignore"):
                good = good & (np.abs(estimate - real) <= tolerance)
    return np.asarray(good)


def _said(grid: Grid) -> str:
    bounds = ", ".join(f"{value:.10g}" for value in grid.bounds)
    return f"({bounds}) in {grid.crs_name or (grid.crs_text or 'no system')[:60]}"


def check_related(first: Grid, second: Grid) -> bool:
    """Return whether two grids are in one coordinate system; raise where nothing relates them."""
    if first.placed != second.placed:
        raise GridMismatch(
            "one raster has a place on a map and the other has none; give it one first "
            "(spectrane place)"
        )
    if (first.crs_text is None) != (second.crs_text is None):
        known = first.crs_text or second.crs_text
        raise GridMismatch(
            f"one raster is in {str(known)[:60]} and the other names no coordinate system; say "
            "which it is (spectrane amend --crs EPSG:CODE)"
        )
    if first.crs_text is None or first.crs_text == second.crs_text:
        return True
    return bool(_understood(first) == _understood(second))


def _understood(grid: Grid) -> Any:
    """Return a grid's coordinate system. Raises GridMismatch where its text names none."""
    system = grid.crs
    if system is None:
        raise GridMismatch(
            f"a raster's coordinate system is only a text, {str(grid.crs_text)[:60]!r}, from which "
            "nothing leads to another; say which it is (spectrane amend --crs EPSG:CODE)"
        )
    return system


def transformer(first: Grid, second: Grid) -> Any:
    """Return pyproj's transformer between two grids' systems; x before y in both."""
    return way_between(_understood(first), _understood(second))


def warn_of_datum(first: Grid, second: Grid) -> None:
    """Warn where a more exact datum transformation is known whose grid file is not installed."""
    import pyproj
    from pyproj.aoi import AreaOfInterest
    from pyproj.transformer import TransformerGroup

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        area: Any = None
        with contextlib.suppress(GridMismatch, pyproj.exceptions.ProjError, ValueError):
            way = way_between(second.crs, LONLAT)
            area = AreaOfInterest(*way.transform_bounds(*second.bounds))
        try:
            group = TransformerGroup(second.crs, first.crs, always_xy=True, area_of_interest=area)
        except pyproj.exceptions.ProjError:
            return
    missing = [operation for operation in group.unavailable_operations if operation.accuracy >= 0]
    if group.best_available or not missing or not group.transformers:
        return
    best, used = min(operation.accuracy for operation in missing), group.transformers[0].accuracy
    if 0 <= used < best + _POORER:
        return
    grids = sorted({grid.short_name for one in missing for grid in one.grids if not grid.available})
    shift = "an unknown amount" if used < 0 else f"up to {used:g} m"
    warn_caller(
        f"positions may be off by {shift}: a datum transformation good to {best:g} m is known, "
        f"but its grid file is not installed ({', '.join(grids[:3])}); install it with PROJ's "
        "data to have it used"
    )
