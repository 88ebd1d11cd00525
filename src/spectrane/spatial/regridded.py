"""A raster on another grid: of another raster, in another coordinate system, or any."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.engine.pyramid import AT_ONCE, Level, Whole, picked
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels import gathering
from spectrane.kernels.lined_up import area_means
from spectrane.model.errors import GridMismatch, LookError, nearest
from spectrane.model.grid import CrsLike, Grid
from spectrane.model.nodata import NoDataRule
from spectrane.model.physical import as_stored, value_dtype
from spectrane.model.pixels import Pixels, full_alpha
from spectrane.model.resampling import RESAMPLINGS, check_unmixed
from spectrane.model.source import Source
from spectrane.model.systems import checked_system
from spectrane.model.window import Window, extent, intersection, relative, whole, window_area
from spectrane.spatial.coordinates import (
    TOLERANCE,
    Mapping,
    Positions,
    Warp,
    check_related,
    warn_of_datum,
)
from spectrane.spatial.grids import grid_of, offset_on, suggested
from spectrane.spatial.shifted import Shifted
from spectrane.spatial.turned import upright

_PIECE = 1 << 20
"""Output pixels that are worked on at a time."""
_SHOWN_WHOLE = 4 << 20
"""Grids of more pixels are brought to small sizes directly, not through full resolution."""
_SMALLEST = 256


class Regridded(Derived, FullSource):
    """Another source's values at the pixel centres of a grid of one's own.

    Integers come back in the stored type, rounded half up; a valid value that would round to the
    no-data value takes the number beside it. What the source does not cover is invalid.
    """

    def __init__(
        self, parent: Source, grid: Grid, resample: str, *, tolerance: float = TOLERANCE,
        place: Grid | None = None, warp: Warp | None = None,
    ) -> None:  # fmt: skip
        super().__init__(
            parent, grid=grid, block_shape=tuple(min(512, n) for n in grid.shape), has_mask=True,
            orientation=1,
        )  # fmt: skip
        self.resample = resample
        self.mapping = Mapping(grid, place or parent.grid, tolerance, warp)
        self.scales = self.mapping.scales()

    def resolutions(self) -> Sequence[Level]:
        """Return the full resolution, and for large grids smaller ones made from the parent."""
        levels: list[Level] = [Whole.of(self)]
        if window_area(whole(self.shape)) <= _SHOWN_WHOLE:
            return levels
        shape = self.shape
        while max(shape) > _SMALLEST:
            shape = tuple(-(-n // 2) for n in shape)
            scale = tuple(n / m for n, m in zip(self.shape, shape, strict=True))
            levels.append(Whole(self._smaller(shape), shape, scale))
        return levels

    def _smaller(self, shape: tuple[int, ...]) -> Regridded:
        return Regridded(
            self.parent, self.grid.resized(shape), "area", tolerance=self.mapping.tolerance,
            place=self.mapping.source, warp=self.mapping.warp,
        )  # fmt: skip

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window, some rows at a time."""
        pieces = _pieces(window)
        pixels = self._piece(bands, window) if len(pieces) == 1 else None
        if pixels is None:
            pixels = self._together(bands, window, pieces)
        if pixels.valid.all():
            return Pixels(pixels.values, alpha=pixels.alpha)
        valid = pixels.validity
        if self.nodata_when == "all":
            valid = np.broadcast_to(valid.any(axis=0), valid.shape)
        return Pixels(pixels.values, mask=valid, alpha=pixels.alpha)

    def _together(self, bands: Sequence[int], window: Window, parts: Iterable[Window]) -> Pixels:
        """Answer a window in parts."""
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        alpha: NDArray[Any] | None = None
        for part in parts:
            pixels = self._piece(bands, part)
            if pixels is None:
                continue
            where = relative(part, window)
            values[(slice(None), *where)] = pixels.values
            mask[(slice(None), *where)] = pixels.valid
            if pixels.alpha is not None:
                alpha = np.zeros(extent(window), pixels.alpha.dtype) if alpha is None else alpha
                alpha[where] = pixels.alpha
        if self.alpha and alpha is None:
            alpha = np.zeros(extent(window), self.dtype)
        return Pixels(values, mask=mask, alpha=alpha)

    def _piece(self, bands: Sequence[int], window: Window) -> Pixels | None:
        lined_up = self.mapping.straight and self.resample in ("nearest", "area")
        positions = (self.mapping.lines if lined_up else self.mapping.positions)(window)
        needed = self._needed(positions)
        if needed is None:
            return None
        factors = self._factors()
        held = math.prod(-(-n // f) for n, f in zip(extent(needed), factors, strict=True))
        if held * len(bands) > AT_ONCE and window_area(window) > 4096:
            return self._together(bands, window, _halves(window))
        if self.resample == "nearest":
            return self._nearest(bands, needed, positions)
        if self.resample == "majority":
            return self._majority(bands, needed, positions)
        return self._mixed(bands, _even(needed, factors, self.parent.shape), factors, positions)

    def _factors(self) -> tuple[int, int]:
        """Return by how much the parent is read smaller, from its overviews, per axis."""
        if self.resample in ("nearest", "majority") or not self.parent.overviews:
            return 1, 1
        spare = 1.0 if self.resample == "area" else 2.0
        powers = [max(0, math.floor(math.log2(max(s / spare, 1.0)) + 1e-3)) for s in self.scales]
        return 1 << powers[0], 1 << powers[1]

    def _needed(self, positions: Positions) -> Window | None:
        """Return the part of the parent that positions in it take taps from."""
        columns, rows = positions
        shape = self.parent.shape
        with np.errstate(invalid="ignore"):
            along = ((rows >= 0) & (rows < shape[0]), (columns >= 0) & (columns < shape[1]))
        both = along if rows.ndim == 1 else (along[0] & along[1],) * 2
        if not all(inside.any() for inside in both):
            return None
        window = []
        for at, inside, scale, length in zip((rows, columns), both, self.scales, shape,
                                             strict=True):  # fmt: skip
            reach = 1
            if self.resample not in ("nearest", "majority"):
                reach = gathering.tap_count(self.resample, scale) // 2 + 2
            elif self.resample == "majority":
                reach = math.ceil(scale / 2) + 1
            seen = at[inside]
            low, high = int(seen.min()) - reach, int(seen.max()) + reach + 1
            window.append((max(0, low), min(length, high)))
        return tuple(window)

    def _nearest(self, bands: Sequence[int], needed: Window, positions: Positions) -> Pixels:
        pixels = self.parent.read(bands, needed)
        (top, _), (left, _) = needed
        height, width = extent(needed)
        row, known = gathering.nearest_along(positions[1] - top, height)
        column, met = gathering.nearest_along(positions[0] - left, width)
        lines = row.ndim == 1
        inside = known[:, np.newaxis] & met if lines else known & met
        place = None if lines else row * width + column

        def taken(plane: NDArray[Any]) -> NDArray[Any]:
            return picked(plane, (row, column)) if place is None else plane.ravel().take(place)

        mask = inside[np.newaxis]
        if not pixels.valid.all():
            mask = mask & np.stack([taken(np.broadcast_to(plane, extent(needed)))
                                    for plane in pixels.valid])  # fmt: skip
        alpha = None if pixels.alpha is None else taken(pixels.alpha) * inside
        return Pixels(np.stack([taken(plane) for plane in pixels.values]), mask=mask, alpha=alpha)

    def _majority(self, bands: Sequence[int], needed: Window, positions: Positions) -> Pixels:
        pixels = self.parent.read(bands, needed)
        (top, _), (left, _) = needed
        columns, rows = positions[0] - left, positions[1] - top
        valid = pixels.validity
        answers = [gathering.majority_at(plane, kept, columns, rows, self.scales)
                 for plane, kept in zip(pixels.values, valid, strict=True)]  # fmt: skip
        return Pixels(np.stack([v for v, _ in answers]), mask=np.stack([m for _, m in answers]))

    def _mixed(
        self, bands: Sequence[int], needed: Window, factors: tuple[int, int], positions: Positions
    ) -> Pixels:
        size = tuple(-(-n // f) for n, f in zip(extent(needed), factors, strict=True))
        pixels = self.parent.read(bands, needed, size, "area")
        shrunk = [n / length for n, length in zip(size, extent(needed), strict=True)]
        (top, _), (left, _) = needed
        columns, rows = (positions[0] - left) * shrunk[1], (positions[1] - top) * shrunk[0]
        scales = (self.scales[0] * shrunk[0], self.scales[1] * shrunk[1])
        if rows.ndim == 1:
            return self._averaged(bands, pixels, columns, rows, scales)
        answers = _gathered(_with_nan(pixels), columns, rows, self.resample, scales)
        alpha = None
        if pixels.alpha is not None:
            # By a kernel that neither overshoots nor rings.
            plain = "area" if self.resample == "area" else "bilinear"
            shares = [pixels.alpha.astype(np.float32)]
            cover = _gathered(shares, columns, rows, plain, scales)[0]
            alpha = self._cover(cover, pixels.alpha.dtype)
        return self._stored(bands, answers, alpha)

    def _stored(
        self, bands: Sequence[int], answers: Sequence[NDArray[Any]], alpha: NDArray[Any] | None
    ) -> Pixels:
        """Return means, NaN where there are none, as the stored type has them."""
        values = np.empty((len(bands), *answers[0].shape), self.dtype)
        mask = np.empty(values.shape, bool)

        def one(k: int) -> None:
            self._put(bands[k], answers[k], values[k], mask[k])

        in_parallel(range(len(bands)), lambda: one)
        return Pixels(values, mask=mask, alpha=alpha)

    def _put(
        self, band: int, means: NDArray[Any], values: NDArray[Any], mask: NDArray[np.bool_]
    ) -> None:
        np.logical_not(np.isnan(means), out=mask)
        values[...] = stored_values(means, mask, self.dtype, self.bands[band].rule)

    def _averaged(
        self, bands: Sequence[int], pixels: Pixels, columns: NDArray[np.float64],
        rows: NDArray[np.float64], scales: tuple[float, float],
    ) -> Pixels:  # fmt: skip
        """Answer by area means along rows and columns that run along the parent's."""
        dtype, size = value_dtype(pixels.values.dtype), (len(rows), len(columns))
        valid = None if pixels.valid.all() else pixels.validity
        values = np.empty((len(bands), *size), self.dtype)
        mask = np.empty(values.shape, bool)
        parts = row_parts(len(rows), len(columns) * len(bands), 100_000)

        def one(job: tuple[int, slice]) -> None:
            k, part = job
            means = np.empty((len(rows[part]), len(columns)), dtype)
            area_means(pixels.values[k], None if valid is None else valid[k], rows[part], columns,
                       scales, means)  # fmt: skip
            self._put(bands[k], means, values[k, part], mask[k, part])

        in_parallel([(k, part) for part in parts for k in range(len(bands))], lambda: one)
        alpha = None
        if pixels.alpha is not None:
            share = np.empty(size, np.float32)
            area_means(pixels.alpha, None, rows, columns, scales, share)
            alpha = self._cover(share, pixels.alpha.dtype)
        return Pixels(values, mask=mask, alpha=alpha)

    def _cover(self, share: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
        """Return alpha of a type as the source's own has it; nothing where there is none."""
        full = full_alpha(self.dtype)
        cover = np.nan_to_num(share) * (full / full_alpha(dtype))
        return as_stored(np.clip(cover, 0, full), self.dtype)


def _halves(window: Window) -> list[Window]:
    """Cut a window in two along its longer side."""
    axis = int(np.argmax(extent(window)))
    start, stop = window[axis]
    middle = (start + stop) // 2
    return [tuple(cut if k == axis else pair for k, pair in enumerate(window))
            for cut in ((start, middle), (middle, stop))]  # fmt: skip


def _pieces(window: Window) -> list[Window]:
    """Cut a window into parts of about a million pixels, rows by rows."""
    (top, bottom), columns = window
    step = max(16, _PIECE // (columns[1] - columns[0]))
    return [((row, min(row + step, bottom)), columns) for row in range(top, bottom, step)]


def _even(needed: Window, factors: tuple[int, int], shape: tuple[int, ...]) -> Window:
    """Widen a window so that it begins and ends on whole pixels of an overview."""
    return tuple(
        (a // f * f, min(n, -(-b // f) * f))
        for (a, b), f, n in zip(needed, factors, shape, strict=True)
    )


def _with_nan(pixels: Pixels) -> list[NDArray[Any]]:
    """Return each band as floats, NaN where it is invalid."""
    dtype = value_dtype(pixels.values.dtype)
    valid = pixels.validity
    planes = []
    for plane, kept in zip(pixels.values, valid, strict=True):
        wide = plane.astype(dtype)
        if not kept.all():
            wide[~kept] = np.nan
        planes.append(wide)
    return planes


def _gathered(
    planes: Sequence[NDArray[Any]], columns: NDArray[np.float64], rows: NDArray[np.float64],
    kernel: str, scales: tuple[float, float],
) -> list[NDArray[Any]]:  # fmt: skip
    taps = math.prod(gathering.tap_count(kernel, scale) for scale in scales)
    gather = gathering.gathered.choose(columns.size * len(planes) * taps // 16)
    out = [np.empty(columns.shape, plane.dtype) for plane in planes]
    parts = row_parts(len(columns), columns.shape[1] * len(planes), 100_000)
    jobs = [(band, part) for part in parts for band in range(len(planes))]

    def one(job: tuple[int, slice]) -> None:
        band, part = job
        gather(planes[band], columns[part], rows[part], kernel, scales, out[band][part])

    in_parallel(jobs, lambda: one)
    return out


def stored_values(
    values: NDArray[Any], valid: NDArray[np.bool_], dtype: np.dtype[Any], rule: NoDataRule
) -> NDArray[Any]:
    """Bring values to the stored type; none that is valid may become a no-data value by it."""
    if dtype.kind == "f":
        return values.astype(dtype)
    stored = as_stored(values if valid.all() else np.where(valid, values, 0), dtype)
    if dtype.kind == "b" or not rule.applies_to(dtype):
        return stored
    turned = rule.invalid(stored) & valid
    for step in (1, -1, 2, -2):
        if not turned.any():
            break
        span = np.iinfo(dtype)
        moved = np.clip(stored[turned].astype(np.int64) + step, span.min, span.max).astype(dtype)
        stored[turned] = np.where(rule.invalid(moved), stored[turned], moved)
        turned = rule.invalid(stored) & valid
    return stored


def regrid(
    source: Source, grid: Any = None, *, crs: CrsLike | None = None, pixel_size: Any = None,
    resample: str | None = None, tolerance: float = TOLERANCE, force: bool = False,
    within: float | None = None,
) -> Source:  # fmt: skip
    """Return a source on another grid: ``grid`` (a Grid or what has one), or one that covers it
    in ``crs`` with ``pixel_size``.

    ``resample`` None is ``cubic``, and ``nearest`` or ``majority`` for categories, which other
    kernels mix only with ``force``. ``tolerance`` bounds positions' errors in pixels of the
    source; 0 computes each exactly. A grid whose pixels coincide resamples nothing. A swath, whose
    pixels have longitudes and latitudes of their own, is brought to a grid by ``nearest`` (the
    pixel nearest to each of the grid's, ``within`` so many metres; None: one and a half of its
    pixels) or ``area`` (the mean of those that lie in each); both look at what is near alone.

    Raises GridMismatch where the two cannot be related or do not meet, LookError for a kernel
    there is not. Warns (DataWarning) where a better datum transformation is not installed.
    """
    source = upright(source)
    if grid is not None and (crs is not None or pixel_size is not None):
        raise GridMismatch("regrid: give a grid, or crs and pixel_size; not both")
    if grid is None and crs is None and pixel_size is None:
        raise GridMismatch("regrid: say onto what: a grid, or crs and pixel_size")
    if not 0 <= tolerance < math.inf:
        raise GridMismatch(f"tolerance {tolerance}: expected pixels, 0 or more")
    if source.geolocation is not None and not source.grid.placed:
        from spectrane.spatial.swaths import regrid_swath  # SciPy's tree: few files need it

        place = None if grid is None else grid_of(grid)
        return regrid_swath(source, place, crs, pixel_size, resample, within, force)
    if within is not None:
        raise LookError("within is for swaths; this raster lies on a grid")
    if grid is not None:
        target = grid_of(grid)
    else:
        target = suggested(source.grid, None if crs is None else checked_system(crs), pixel_size)
    return onto(source, target, chosen_kernel(source, resample, target, force), tolerance)


def onto(source: Source, target: Grid, resample: str, tolerance: float = TOLERANCE) -> Source:
    """Return a source on a grid by a kernel: itself, shifted, or regridded."""
    offset = offset_on(source.grid, target)
    if offset is not None:
        if intersection(_placed(source, offset), whole(target.shape)) is None:
            raise GridMismatch(
                f"the rasters do not meet: the grid covers {target.bounds}, the raster "
                f"{source.grid.bounds}"
            )
        if offset == (0, 0) and source.shape == target.shape:
            return source
        return Shifted(source, target, offset)
    if not check_related(target, source.grid):
        warn_of_datum(target, source.grid)
    return Regridded(source, target, resample, tolerance=tolerance)


def _placed(source: Source, offset: tuple[int, int]) -> Window:
    return tuple((d, d + n) for d, n in zip(offset, source.shape, strict=True))


def chosen_kernel(
    source: Source, resample: str | None, target: Grid | None = None, force: bool = False
) -> str:
    """Return the kernel asked for, or the one that fits; categories are never mixed unforced."""
    if resample is None:
        if source.mixable:
            return "cubic"
        same = target is None or max(_coarser(source.grid, target)) <= 1.5
        return "nearest" if same else "majority"
    if resample not in RESAMPLINGS:
        raise LookError(f"resample {resample!r}{nearest(resample, RESAMPLINGS)}")
    check_unmixed(source.mixable, resample, force)
    return resample


def _coarser(grid: Grid, target: Grid) -> tuple[float, float]:
    """Return how many pixels of a grid one of another covers, along rows and columns."""
    try:
        return Mapping(target, grid).scales()
    except GridMismatch:
        return 1.0, 1.0


def placed_like(grid: Grid, crs: str | None) -> Grid:
    """Return a grid said to be in a coordinate system."""
    return replace(grid, crs_text=crs, placed=True, y_up=True)
