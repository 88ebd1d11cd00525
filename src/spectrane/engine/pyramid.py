"""Reading at another size: from the right overview, in bounded memory."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.threads import in_parallel, row_parts
from spectrane.engine.watching import told_walk
from spectrane.kernels import convolving, shrinking
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.patience import check_work
from spectrane.model.physical import value_dtype
from spectrane.model.pixels import Pixels, full_alpha
from spectrane.model.resampling import RESAMPLINGS
from spectrane.model.window import (
    Window,
    block_window,
    blocks_touching,
    extent,
    intersection,
    window_area,
)

AT_ONCE = 16 << 20
"""Windows of up to so many numbers are read whole; larger ones go block by block."""


class Level(Protocol):
    """One resolution of a raster: its shape, and how to get at its pixels."""

    @property
    def shape(self) -> tuple[int, ...]:
        """Pixels along each axis."""

    @property
    def scale(self) -> tuple[float, ...]:
        """Full-resolution pixels per pixel of this level, along each axis."""

    def read(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window of this level, as stored."""

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the blocks a window touches, each once and cut to it."""


@record(frozen=True)
class Whole:
    """The full resolution of anything with ``read`` and ``blocks`` (a source) as a level."""

    source: Any
    shape: tuple[int, ...]
    scale: tuple[float, ...]

    @classmethod
    def of(cls, source: Any) -> Whole:
        """Return a source's full resolution."""
        return cls(source, source.shape, (1.0,) * len(source.shape))

    def read(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer as the source does."""
        pixels: Pixels = self.source.read(bands, window)
        return pixels

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the source's blocks."""
        walk: Iterator[tuple[Window, Pixels]] = self.source.blocks(bands, window)
        return walk


def read_resized(
    levels: Sequence[Level], bands: Sequence[int], window: Window, size: tuple[int, ...],
    resample: str, name: str = "",
) -> Pixels:  # fmt: skip
    """Answer a window at a size other than its own.

    ``levels`` are ordered from full resolution down. ``area`` reads the coarsest level that
    still has at least the wanted resolution; the others read the full one. Raises LongJob, with the
    file's ``name``, for what would take hours.
    """
    if resample not in RESAMPLINGS:
        raise LookError(f"resample {resample!r}: expected one of {', '.join(RESAMPLINGS)}")
    if resample in convolving.KERNELS:
        return _mixed(_nearest_above(levels, window, size), bands, window, size, resample)
    whole = resample in ("nearest", "majority")
    level = levels[0] if whole else _nearest_above(levels, window, size)
    check_work(window_area(_on_level(level, window)) * len(bands), name)
    answer = {"nearest": _nearest, "majority": _majority}.get(resample, _area)
    return answer(level, bands, window, size)


def _nearest_above(levels: Sequence[Level], window: Window, size: tuple[int, ...]) -> Level:
    steps = [length / wanted for length, wanted in zip(extent(window), size, strict=True)]
    # A thousandth of slack: 625 rows of 20 000 asked of a 32-fold overview are its own.
    fitting = [
        level for level in levels
        if all(s <= step * 1.001 for s, step in zip(level.scale, steps, strict=True))
    ]  # fmt: skip
    return max(fitting, key=lambda level: level.scale, default=levels[0])


def _pieces(level: Level, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
    if window_area(window) * len(bands) <= AT_ONCE:
        yield window, level.read(bands, window)
    else:
        yield from told_walk(level.blocks(bands, window), window)


def picks(start: int, stop: int, count: int) -> NDArray[np.intp]:
    """Return which of the pixels start...stop hold the centres of ``count`` even pixels.

    >>> picks(0, 10, 3).tolist()
    [1, 5, 8]
    """
    centres = start + (np.arange(count) + 0.5) * ((stop - start) / count)
    return np.asarray(np.minimum(np.floor(centres), stop - 1), np.intp)


def _nearest(level: Level, bands: Sequence[int], window: Window, size: tuple[int, ...]) -> Pixels:
    wanted = [picks(a, b, n) for (a, b), n in zip(window, size, strict=True)]
    out: Pixels | None = None
    for block, pixels in _pieces(level, bands, window):
        ranges = [np.searchsorted(w, pair) for w, pair in zip(wanted, block, strict=True)]
        if any(a == b for a, b in ranges):
            continue
        target = tuple(slice(a, b) for a, b in ranges)
        inside = [w[t] - start for w, t, (start, _) in zip(wanted, target, block, strict=True)]
        out = _empty_like(pixels, size) if out is None else out
        _put_picked(pixels, inside, out, target)
    assert out is not None
    return out


def _mixed(
    level: Level, bands: Sequence[int], window: Window, size: tuple[int, ...], kernel: str
) -> Pixels:
    """Answer by a kernel that mixes neighbours, also those outside the window; rows at a time."""
    ends = [(a / s, b / s) for (a, b), s in zip(window, level.scale, strict=True)]
    steps = [(b - a) / n for (a, b), n in zip(ends, size, strict=True)]
    centres = [a + step * (np.arange(n, dtype=np.float64) + 0.5) for (a, _), step, n in
               zip(ends, steps, size, strict=True)]  # fmt: skip
    rows, columns = (
        convolving.taps(kernel, at, step, length)
        for at, step, length in zip(centres, steps, level.shape, strict=True)
    )
    across = _reach(columns, level.shape[1])
    per_row = max(1.0, steps[0]) * (across[1] - across[0]) * len(bands)
    chunk = max(1, int(AT_ONCE / 4 / per_row))
    values = np.full((len(bands), *size), np.nan)
    shown = np.zeros((len(bands), *size), bool)
    alpha: NDArray[Any] | None = None
    dtype = np.dtype(np.float32)
    for start in range(0, size[0], chunk):
        part = slice(start, start + chunk)
        some = convolving.Taps(rows.first[part], rows.weights[part])
        down = _reach(some, level.shape[0])
        pixels = level.read(bands, (down, across))
        dtype = value_dtype(pixels.values.dtype)
        valid = _finite_valid(pixels)
        origin = (down[0], across[0])
        for band, plane in enumerate(pixels.values):
            mask = None if valid is None else valid[min(band, len(valid) - 1)]
            values[band, part], shown[band, part] = convolving.convolved(
                plane, mask, some, columns, origin
            )
        if pixels.alpha is not None:
            alpha = np.zeros(size, np.float32) if alpha is None else alpha
            top = full_alpha(pixels.alpha.dtype)
            cover, _ = convolving.convolved(pixels.alpha / top, None, some, columns, origin)
            alpha[part] = np.clip(cover, 0, 1)
    mask = None if shown.all() else shown
    return Pixels(values.astype(dtype), mask=mask, alpha=alpha)


def _reach(axis: convolving.Taps, length: int) -> tuple[int, int]:
    """Return the inputs that an axis's taps touch, inside the raster."""
    first, last = int(axis.first.min()), int(axis.first.max()) + axis.count
    return max(0, min(first, length - 1)), max(1, min(last, length))


def _empty_like(pixels: Pixels, size: tuple[int, ...]) -> Pixels:
    values = np.empty((len(pixels.values), *size), pixels.values.dtype)
    mask = None if pixels.mask is None else np.ones((pixels.mask.shape[0], *size), bool)
    alpha = None if pixels.alpha is None else np.empty(size, pixels.alpha.dtype)
    return Pixels(values, mask=mask, rules=pixels.rules, alpha=alpha, when=pixels.when)


def _put_picked(
    pixels: Pixels, inside: Sequence[NDArray[np.intp]], out: Pixels, target: tuple[slice, ...]
) -> None:
    for band, values in enumerate(pixels.values):
        out.values[band][target] = picked(values, inside)
    if pixels.alpha is not None and out.alpha is not None:
        out.alpha[target] = picked(pixels.alpha, inside)
    if pixels.mask is not None:
        if out.mask is None:
            out.mask = np.ones((len(pixels.mask), *out.values.shape[1:]), bool)
        full = np.broadcast_to(pixels.mask, (len(pixels.mask), *pixels.values.shape[1:]))
        for band, mask in enumerate(full):
            out.mask[band][target] = picked(mask, inside)


def picked(values: NDArray[Any], inside: Sequence[NDArray[np.intp]]) -> NDArray[Any]:
    """Return the crossing of some places along each axis.

    Few numbers of many are picked one by one; else an axis at a time, the sparsest first.
    """
    if 4 * math.prod(map(len, inside)) < values.size:
        return np.asarray(values[np.ix_(*inside)])
    order = sorted(range(values.ndim), key=lambda axis: len(inside[axis]) / values.shape[axis])
    for axis in order:
        values = values.take(inside[axis], axis=axis)
    return values


def _area(level: Level, bands: Sequence[int], window: Window, size: tuple[int, ...]) -> Pixels:
    if all(b - a == n for (a, b), n in zip(_on_level(level, window), size, strict=True)):
        return level.read(bands, _on_level(level, window))  # the overview's own pixels
    ends = [(a / s, b / s) for (a, b), s in zip(window, level.scale, strict=True)]
    ends = [(a, min(b, float(n))) for (a, b), n in zip(ends, level.shape, strict=True)]
    touched = tuple((int(np.floor(a)), int(np.ceil(b))) for a, b in ends)
    sums = AreaSums(ends, size, len(bands))
    for block, pixels in _pieces(level, bands, touched):
        sums.add(block, pixels, window_area(touched) * len(bands))
    return sums.pixels()


def _on_level(level: Level, window: Window) -> Window:
    """Return the window of a level's pixels that a full-resolution window is, or covers."""
    return tuple(
        (int(np.floor(a / s)), min(int(np.ceil(b / s)), n))
        for (a, b), s, n in zip(window, level.scale, level.shape, strict=True)
    )


class AreaSums:
    """Area-weighted means of bands and coverage, gathered block by block in any order.

    ``ends`` are the low and high end of each axis in the coordinates of the blocks' windows.
    """

    def __init__(
        self, ends: Sequence[tuple[float, float]], size: tuple[int, ...], bands: int
    ) -> None:
        self.ends = ends
        self.size = size
        self.sums = np.zeros((bands, *size))
        self.missing: NDArray[np.float64] | None = None  # weight of what is invalid
        self.alpha_sums: NDArray[np.float64] | None = None
        self.dtype: np.dtype[Any] = np.dtype(np.float32)
        self.alpha_top = 1.0

    def add(self, block: Window, pixels: Pixels, work: int) -> None:
        """Add a block; ``work`` is the size of the whole job, for the choice of kernel."""
        rows, columns = (
            shrinking.spans(low, high, count, seen)
            for (low, high), count, seen in zip(self.ends, self.size, block, strict=True)
        )
        if not (len(rows.start) and len(columns.start)):
            return
        self.dtype = value_dtype(pixels.values.dtype)
        valid = _finite_valid(pixels)
        if valid is not None and self.missing is None:
            self.missing = np.zeros_like(self.sums)
        add = shrinking.add_area.choose(work, pixels.values.size)

        def one(job: tuple[int, slice]) -> None:
            band, part = job
            mask = None if valid is None else valid[min(band, len(valid) - 1)]
            self._add_rows(add, pixels.values[band], mask, band, rows.part(part), columns)

        # Parts of the output, so that no two threads add to the same pixel.
        parts = row_parts(len(rows.start), pixels.values[0].size // len(rows.start))
        in_parallel([(k, part) for part in parts for k in range(len(self.sums))], lambda: one)
        if pixels.alpha is not None:
            self._add_alpha(pixels.alpha, rows, columns)

    def _add_rows(
        self, add: Any, values: NDArray[Any], mask: NDArray[np.bool_] | None, band: int,
        rows: shrinking.Spans, columns: shrinking.Spans,
    ) -> None:  # fmt: skip
        """Add the outputs ``rows`` of one band, from the rows of the block that they need."""
        top, bottom = int(rows.start.min()), int(rows.stop.max())
        rows = rows.within(top)
        mask = None if mask is None else mask[top:bottom]
        if mask is None or mask.all():
            add(values[top:bottom], None, rows, columns, self.sums[band], None)
            return
        assert self.missing is not None
        seen = np.zeros((len(rows.start), len(columns.start)))
        into = np.zeros_like(seen)
        add(values[top:bottom], mask, rows.alone(), columns.alone(), into, seen)
        where = (band, rows.outputs, columns.outputs)
        self.sums[where] += into
        self.missing[where] += shrinking.full_weights(rows, columns) - seen

    def _add_alpha(
        self, alpha: NDArray[Any], rows: shrinking.Spans, columns: shrinking.Spans
    ) -> None:
        if self.alpha_sums is None:
            self.alpha_sums = np.zeros(self.size)
        self.alpha_top = full_alpha(alpha.dtype)
        shrinking.add_area_reference(alpha, None, rows, columns, self.alpha_sums, None)

    def pixels(self) -> Pixels:
        """Divide, and return means with the mask of where half the weight was valid."""
        full = self._full()
        alpha, mask = None, None
        if self.missing is None:
            means = np.multiply(self.sums, 1 / full, out=self.sums)
        else:
            valid = full - self.missing
            enough = valid >= 0.5 * full * (1 - 1e-6)
            means = np.where(enough, self.sums / np.where(enough, valid, 1.0), np.nan)
            mask = None if enough.all() else enough
        if self.alpha_sums is not None:
            alpha = (self.alpha_sums / (full * self.alpha_top)).astype(np.float32)
        return Pixels(means.astype(self.dtype), mask=mask, alpha=alpha)

    def _full(self) -> float:
        step = 1.0
        for (low, high), count in zip(self.ends, self.size, strict=True):
            step *= (high - low) / count
        return step


def _finite_valid(pixels: Pixels) -> NDArray[np.bool_] | None:
    """Return valid and finite, (1 or bands, rows, columns); None where every pixel is."""
    valid = pixels.valid
    if pixels.values.dtype.kind == "f":
        finite = np.isfinite(pixels.values)
        return None if finite.all() and valid.all() else np.asarray(valid & finite)
    if valid.size == 1:
        return None
    return np.broadcast_to(valid, (len(valid), *pixels.values.shape[1:]))


def _majority(level: Level, bands: Sequence[int], window: Window, size: tuple[int, ...]) -> Pixels:
    """Answer the class that covers most of each pixel's area; ties go to the lowest number."""
    (top, bottom), columns = window
    per_output = (bottom - top) / size[0]
    chunk = max(1, int(AT_ONCE / max(1.0, per_output * (columns[1] - columns[0]))))
    values = np.zeros((len(bands), *size), np.float64)
    valid = np.zeros((len(bands), *size), bool)
    for first in range(0, size[0], chunk):
        last = min(first + chunk, size[0])
        ends = (top + first * per_output, top + last * per_output)
        rows = (int(np.floor(ends[0])), min(bottom, int(np.ceil(ends[1] - 1e-9))))
        pixels = level.read(bands, (rows, columns))
        where = slice(first, last)
        for band in range(len(bands)):
            found = _largest_share(pixels, band, rows, ends, columns, (last - first, size[1]))
            values[band, where], valid[band, where] = found
    return Pixels(values.astype(pixels.values.dtype), mask=valid)


def _largest_share(
    pixels: Pixels, band: int, rows: tuple[int, int], ends: tuple[float, float],
    columns: tuple[int, int], size: tuple[int, int],
) -> tuple[NDArray[np.float64], NDArray[np.bool_]]:  # fmt: skip
    stored = pixels.values[band]
    valid = pixels.validity[band]
    over = shrinking.spans(*ends, size[0], rows)
    across = shrinking.spans(float(columns[0]), float(columns[1]), size[1], columns)
    best, found, total = np.zeros(size), np.zeros(size), np.zeros(size)
    for value in np.unique(stored[valid]):
        share = np.zeros(size)
        same = ((stored == value) & valid).astype(np.uint8)
        shrinking.add_area_reference(same, None, over, across, share, None)
        found[share > best] = value
        best = np.maximum(best, share)
        total += share
    step = (ends[1] - ends[0]) / size[0] * ((columns[1] - columns[0]) / size[1])
    return found, total >= 0.5 * step * (1 - 1e-6)


def cut_blocks(
    source: Any, bands: Sequence[int], window: Window, block: Sequence[int]
) -> Iterator[tuple[Window, Pixels]]:
    """Walk a window in regular blocks by reading each: for sources without blocks of their own."""
    for position in blocks_touching(window, block):
        part = intersection(block_window(position, block, source.shape), window)
        if part is not None:
            yield part, source.read(bands, part)
