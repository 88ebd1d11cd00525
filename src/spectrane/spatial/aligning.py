"""How far one raster lies off another of the same place, found from what both show.

Phase correlation (Kuglin and Hines, 1975) over the valid overlap, first on all of it at a reduced
size, then on patches at full resolution, tells whole pixels; what is left is found by least squares
of one patch against the other, its brightness fitted along with it (Lucas and Kanade, 1981).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.described import Described
from spectrane.kernels.gathering import gathered
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.source import Source, called
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, extent, intersection, shifted, whole, window_area
from spectrane.spatial.coordinates import check_related, transformer
from spectrane.spatial.mosaics.inputs import GridAligned, lay
from spectrane.spatial.turned import upright

F64 = NDArray[np.float64]
AlignmentKind = Literal["shift", "affine"]
KINDS: tuple[AlignmentKind, ...] = get_args(AlignmentKind)
CERTAIN = 0.3
"""A shift whose rasters agree less than this (correlation) is not taken out."""
_COARSE, _PATCH, _LEAST = 1024, 512, 24
_WHITENED = 0.75
_STEPS, _FEWEST, _FURTHEST = 12, 64, 3.0
_OUTLYING = 1.0


@record(frozen=True)
class Patch:
    """One place at which the shift was found: its middle, the shift, and the correlation there."""

    row: float
    column: float
    rows: float
    columns: float
    certainty: float


@quiet_methods
@record(frozen=True)
class Alignment:
    """How a raster must be moved, in pixels of the other's grid, to fall on it.

    ``rows`` and ``columns`` are the shift at the overlap's middle; ``matrix`` takes (column, row)
    to where it belongs. ``certainty`` is the correlation of the two after it, 0...1; ``spread`` how
    much the patches' shifts differ, in pixels (root mean square).

    >>> Alignment(2.0, 0.0, 0.9, 0.1, ((1, 0, 0), (0, 1, 2)), "shift", ()).to_dict()["rows"]
    2.0
    """

    rows: float
    columns: float
    certainty: float
    spread: float
    matrix: tuple[tuple[float, ...], ...]
    kind: str
    patches: tuple[Patch, ...]

    def to_dict(self) -> dict[str, Any]:
        """Return the answer as plain values.

        >>> sorted(Alignment(2.0, 0.0, 0.9, 0.1, (), "shift", ()).to_dict())[:2]
        ['certainty', 'columns']
        """
        return {"rows": self.rows, "columns": self.columns, "certainty": self.certainty,
                "spread": self.spread, "kind": self.kind, "patches": len(self.patches)}  # fmt: skip

    def __str__(self) -> str:
        return (
            f"{self.columns:+.2f} columns, {self.rows:+.2f} rows ({self.kind}; correlation "
            f"{self.certainty:.2f}, spread {self.spread:.2f} pixels at {len(self.patches)} places)"
        )


def find_alignment(
    source: Source, to: Source, *, kind: str = "shift", band: int | None = None
) -> Alignment:
    """Find how ``source`` must be moved to fall on ``to``.

    ``kind`` is ``shift``, or ``affine`` (also turned, scaled, sheared). ``band`` (from 0) is
    compared; None: the mean of those that both have in common order. Raises GridMismatch where
    they do not overlap, or too little to tell.
    """
    if kind not in KINDS:
        raise LookError(f"align {kind!r}: expected shift or affine")
    source, to = upright(source), upright(to)
    laid = lay(source, to.grid, None)
    window = intersection(laid.window, whole(to.shape))
    if window is None or min(extent(window)) < _LEAST:
        raise GridMismatch(
            f"{called(source)} and {called(to)} overlap by {extent(window) if window else 'no'} "
            f"pixels; at least {_LEAST} x {_LEAST} are needed to tell a shift"
        )
    fixed = GridAligned(to, whole(to.shape), called(to))
    bands = _bands(source, to, band)
    start = _coarse(fixed, laid, bands, window)
    # A patch tells one shift: where that changes over the overlap, patches must be small.
    across, length = (5, max(96, min(extent(window)) // 4)) if kind == "affine" else (3, _PATCH)
    patches = _patches(fixed, laid, bands, window, start, across, min(length, _PATCH))
    if not patches:
        raise GridMismatch(
            f"{called(source)} and {called(to)}: too few valid pixels in common to tell a shift"
        )
    return _joined(patches, window, kind)


def _bands(source: Source, to: Source, band: int | None) -> list[int]:
    if band is not None:
        source.check_bands([band])
        to.check_bands([band])
        return [band]
    return list(range(min(len(source.bands), len(to.bands), 3)))


def _grey(
    aligned: GridAligned, bands: Sequence[int], window: Window, size: Any
) -> tuple[F64, NDArray[Any]]:
    """Return the bands' mean over a window that may reach outside, and where it is valid."""
    wanted = extent(window) if size is None else size
    values, valid = np.zeros(wanted), np.zeros(wanted, bool)
    part = intersection(window, aligned.window)
    if part is None or (size is not None and part != window):
        return values, valid
    pixels = aligned.read(bands, part, size)
    where: tuple[slice, ...] = tuple(
        slice(a - s, b - s) for (a, b), (s, _) in zip(part, window, strict=True)
    )
    if size is not None:
        where = (slice(None), slice(None))
    shown = pixels.shown & np.isfinite(pixels.values).all(axis=0)
    values[where] = np.where(shown, pixels.values.astype(np.float64).mean(axis=0), 0)
    valid[where] = shown
    return values, valid


def _coarse(
    fixed: GridAligned, moving: GridAligned, bands: Sequence[int], window: Window
) -> tuple[int, int]:
    """Return the whole-pixel shift seen over the whole overlap."""
    factor = max(1, -(-max(extent(window)) // _COARSE))
    size = tuple(max(1, n // factor) for n in extent(window))
    asked = None if factor == 1 else size
    a, b = (_grey(one, bands, window, asked) for one in (fixed, moving))
    shift = _correlated(*a, *b)
    return (0, 0) if shift is None else (round(shift[0] * factor), round(shift[1] * factor))


def _patches(
    fixed: GridAligned,
    moving: GridAligned,
    bands: Sequence[int],
    window: Window,
    start: tuple[int, int],
    across: int,
    length: int,
) -> list[Patch]:
    """Find the shift at places spread over the overlap."""
    back = shifted(moving.window, start)
    common = intersection(window, back) or window
    patches = []
    for rows in _spread(common[0], across, length):
        for columns in _spread(common[1], across, length):
            here: Window = (rows, columns)
            a = _grey(fixed, bands, here, None)
            b = _grey(moving, bands, shifted(here, [-d for d in start]), None)
            shift = _correlated(*a, *b)
            if shift is None:
                continue
            patches.append(Patch(
                sum(rows) / 2, sum(columns) / 2, shift[0] + start[0], shift[1] + start[1], shift[2]
            ))  # fmt: skip
    return patches


def _spread(pair: tuple[int, int], across: int, longest: int) -> list[tuple[int, int]]:
    """Return up to ``across`` spans of a patch's length, evenly spread and not overlapping much."""
    start, stop = pair
    length = min(longest, stop - start)
    count = max(1, min(across, round((stop - start) / length * 1.5)))
    if count == 1:
        middle = (start + stop - length) // 2
        return [(middle, middle + length)]
    steps = np.linspace(start, stop - length, count).round().astype(int).tolist()
    return [(a, a + length) for a in steps]


def _correlated(
    a: F64, a_valid: NDArray[Any], b: F64, b_valid: NDArray[Any]
) -> tuple[float, float, float] | None:
    """Return by how much b must move onto a (rows, columns), and their correlation there."""
    if min(a_valid.mean(), b_valid.mean()) < 0.2 or min(a.shape) < _LEAST:
        return None
    x, y = _prepared(a, a_valid), _prepared(b, b_valid)
    if not (x.any() and y.any()):
        return None
    spectrum = np.fft.fft2(x) * np.conj(np.fft.fft2(y))
    size = np.abs(spectrum)
    # Not wholly whitened: where there is no power, there is nothing but the windows' edges.
    surface = np.fft.ifft2(spectrum / np.maximum(size, 1e-9 * size.max()) ** _WHITENED).real
    row, column = np.unravel_index(int(surface.argmax()), surface.shape)
    rows, columns = (int(k) - n if k > n // 2 else int(k)
                     for k, n in zip((row, column), x.shape, strict=True))  # fmt: skip
    return _refined(np.where(a_valid, a, np.nan), np.where(b_valid, b, np.nan), (rows, columns))


def _prepared(values: F64, valid: NDArray[Any]) -> F64:
    """Return values less their mean, fading to 0 at the patch's edges and at what is invalid."""
    window = np.multiply.outer(*(np.hanning(n + 2)[1:-1] for n in values.shape))
    weight = window * valid
    mean = float((values * weight).sum() / max(weight.sum(), 1e-30))
    return np.asarray((values - mean) * weight)


def _refined(a: F64, b: F64, near: tuple[int, int]) -> tuple[float, float, float] | None:
    """Step from a whole-pixel shift to the least squares of a against b moved, and fitted to it."""
    rows, columns = np.meshgrid(*(np.arange(n) + 0.5 for n in a.shape), indexing="ij")
    gather = gathered.choose(a.size * _STEPS)
    shift = np.array(near, float)
    moved_b = np.empty(a.shape)
    agreement = 0.0
    for _ in range(_STEPS):
        gather(b, columns - shift[1], rows - shift[0], "cubic", (1.0, 1.0), moved_b)
        down, across = np.gradient(moved_b)
        used = np.isfinite(a) & np.isfinite(down) & np.isfinite(across)
        if used.sum() < _FEWEST:
            return None
        target, values = a[used], moved_b[used]
        agreement = _correlation(target, values)
        terms = np.column_stack([values, down[used], across[used], np.ones(len(target))])
        solution = np.linalg.lstsq(terms, target, rcond=None)[0]
        if abs(solution[0]) < 1e-12:
            break
        # Moving by d changes what is seen by -d times the slope.
        step = np.clip(-solution[1:3] / solution[0], -1, 1)
        shift += step
        if np.abs(step).max() < 1e-3:
            break
    if np.abs(shift - near).max() > _FURTHEST:
        return near[0], near[1], agreement * 0.5  # it wandered off: half as sure
    return float(shift[0]), float(shift[1]), agreement


def _correlation(x: F64, y: F64) -> float:
    x, y = x - x.mean(), y - y.mean()
    power = float(np.sqrt((x @ x) * (y @ y)))
    return max(0.0, float(x @ y) / power) if power > 0 else 0.0


def _joined(patches: Sequence[Patch], window: Window, kind: str) -> Alignment:
    """Join the patches' shifts into one answer, without those that lie far from the rest."""
    sure = [patch for patch in patches if patch.certainty >= CERTAIN] or list(patches)
    shifts = np.array([(patch.columns, patch.rows) for patch in sure])
    places = np.array([(patch.column, patch.row) for patch in sure])
    weights = np.array([max(patch.certainty, 1e-3) for patch in sure])
    model = _fitted(places, shifts, weights, kind)
    for _ in range(3):
        off = np.hypot(*(_at(model, places) - shifts).T)
        kept = off <= max(_OUTLYING, 3 * float(np.median(off)))
        if kept.all() or kept.sum() < 1:
            break
        places, shifts, weights = places[kept], shifts[kept], weights[kept]
        sure = [patch for patch, keep in zip(sure, kept, strict=True) if keep]
        model = _fitted(places, shifts, weights, kind)
    off = np.hypot(*(_at(model, places) - shifts).T)
    middle = np.array([[sum(window[1]) / 2, sum(window[0]) / 2]])
    columns, rows = _at(model, middle)[0].tolist()
    matrix = np.eye(3)
    matrix[:2] += model
    return Alignment(
        rows, columns, float(np.average([patch.certainty for patch in sure])),
        float(np.sqrt(np.mean(off**2))), tuple(map(tuple, matrix.tolist())), kind, tuple(sure),
    )  # fmt: skip


def _fitted(places: F64, shifts: F64, weights: F64, kind: str) -> F64:
    """Return (2, 3): shift = model @ (column, row, 1)."""
    model = np.zeros((2, 3))
    spread = np.linalg.matrix_rank(places - places.mean(axis=0)) if len(places) > 2 else 0
    if kind == "shift" or spread < 2:
        model[:, 2] = [_weighted_median(shifts[:, k], weights) for k in (0, 1)]
        near = np.hypot(*(shifts - model[:, 2]).T) <= _OUTLYING
        model[:, 2] = np.average(shifts[near], axis=0, weights=weights[near])
        return model
    terms = np.column_stack([places, np.ones(len(places))]) * weights[:, np.newaxis]
    solution = np.linalg.lstsq(terms, shifts * weights[:, np.newaxis], rcond=None)[0]
    return np.asarray(solution.T, np.float64)


def _weighted_median(values: F64, weights: F64) -> float:
    order = np.argsort(values)
    held = np.cumsum(weights[order])
    return float(values[order][np.searchsorted(held, held[-1] / 2)])


def _at(model: F64, places: F64) -> F64:
    return np.asarray(places @ model[:, :2].T + model[:, 2])


def realigned(source: Source, to: Source, found: Alignment) -> Source:
    """Return a source whose grid has the misalignment taken out; no pixel is touched."""
    source = upright(source)
    return Described(source, grid=moved_grid(source.grid, to.grid, found))


def moved_grid(grid: Grid, to: Grid, found: Alignment) -> Grid:
    """Return a grid moved as an alignment on another grid says."""
    on_map = to.matrix @ np.array(found.matrix) @ np.linalg.inv(to.matrix)
    if check_related(to, grid):
        return replace(grid, affine=tuple(map(tuple, (on_map @ grid.matrix).tolist())))
    rows, columns = grid.shape
    pixels = np.array([(0, 0, 1), (columns, 0, 1), (0, rows, 1)], float).T
    x, y, _ = grid.matrix @ pixels
    east, north = transformer(grid, to).transform(x, y)
    there = on_map @ np.array([east, north, np.ones(3)])
    x, y = transformer(to, grid).transform(there[0], there[1])
    affine = np.array([x, y, np.ones(3)]) @ np.linalg.inv(pixels)
    return replace(grid, affine=tuple(map(tuple, affine.tolist())))


def aligned(sources: Sequence[Source], kind: str) -> tuple[list[Source], list[dict[str, Any]]]:
    """Move each source onto those before it, and tell by how much.

    Each is held against the earlier one that it overlaps most. One that cannot be held against
    any, or agrees too little, stays where it is, with a warning.
    """
    done: list[Source] = []
    rows: list[dict[str, Any]] = []
    for source in sources:
        best = _widest(source, done)
        done.append(upright(source))
        if best is None:
            continue
        try:
            alignment = find_alignment(source, best, kind=kind)
        except GridMismatch as error:
            warn_caller(f"not aligned: {error}")
            continue
        taken = alignment.certainty >= CERTAIN
        if taken:
            done[-1] = realigned(source, best, alignment)
        else:
            warn_caller(
                f"{called(source)} is not aligned: it agrees with {called(best)} only by "
                f"{alignment.certainty:.2f}"
            )
        rows.append({"raster": called(source), "to": called(best), **alignment.to_dict(),
                     "taken out": taken})  # fmt: skip
    return done, rows


def _widest(source: Source, done: Sequence[Source]) -> Source | None:
    best, most = None, 0
    for one in done:
        window = intersection(lay(source, one.grid, "nearest").window, whole(one.shape))
        if window is not None and window_area(window) > most:
            best, most = one, window_area(window)
    return best
