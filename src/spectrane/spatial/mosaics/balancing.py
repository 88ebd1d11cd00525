"""Evening out the brightness of overlapping rasters: by gain, gain and bias, or histogram.

``gain`` minimises the sum of (g_i v_i - g_j v_j)^2 over all overlaps, per band, with a mean gain of
1 in each group of rasters that hang together; ``gain+bias`` adds a bias of mean 0; ``histogram``
matches each raster to those already matched where they overlap, outward from a reference.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.physical import physical, value_dtype
from spectrane.model.source import Source
from spectrane.model.window import extent, intersection, window_area
from spectrane.spatial.mosaics.inputs import GridAligned

F64 = NDArray[np.float64]
BalanceBy = Literal["gain", "gain+bias", "histogram"]
BALANCES: tuple[BalanceBy, ...] = get_args(BalanceBy)
LOOKED_AT = 1 << 20
"""Pixels at which an overlap is compared, where it has so many."""
_SHARES = 257
_LEAST = 16


@record(frozen=True)
class Overlap:
    """What two rasters hold where both are valid: sums of physical values per band."""

    first: int
    second: int
    count: float  # full-resolution pixels
    sums: F64  # (bands, 5): a, b, aa, bb, ab, of the pixels compared
    compared: F64  # (bands,): how many there were
    shares: tuple[F64, F64] | None = None  # (bands, 257) quantiles of both


@record(frozen=True)
class Correction:
    """What becomes of a raster's physical values: gain and bias, or a curve, per band."""

    gain: tuple[float, ...]
    bias: tuple[float, ...]
    curve: tuple[tuple[tuple[float, ...], tuple[float, ...]], ...] | None = None

    def apply(self, stored: NDArray[Any], band: int, scale: float, offset: float) -> NDArray[Any]:
        """Return corrected stored numbers, as floats."""
        wide = value_dtype(stored.dtype)
        if self.curve is not None:
            xs, ys = self.curve[band]
            physical = stored.astype(np.float64) * scale + offset
            result = np.interp(physical, xs, ys)
            low, high = physical < xs[0], physical > xs[-1]
            result = np.where(low, physical + (ys[0] - xs[0]), result)
            result = np.where(high, physical + (ys[-1] - xs[-1]), result)
            return ((result - offset) / scale).astype(wide)
        gain, bias = self.gain[band], self.bias[band]
        shift = (gain * offset + bias - offset) / scale
        return np.asarray(stored.astype(wide) * wide.type(gain) + wide.type(shift))

    def value(self, physical: F64, band: int) -> F64:
        """Return corrected physical values."""
        if self.curve is not None:
            return np.asarray(np.interp(physical, *self.curve[band]))
        return physical * self.gain[band] + self.bias[band]


@dataclass
class Balance:
    """The corrections of all rasters, and the overlaps they came from."""

    kind: str
    corrections: list[Correction]
    overlaps: list[Overlap] = field(default_factory=list)
    alone: list[int] = field(default_factory=list)  # rasters that overlap no other


def overlaps_of(
    laid: Sequence[GridAligned], bands: int, *, quantiles: bool = False, looked_at: int = LOOKED_AT
) -> list[Overlap]:
    """Compare every two rasters where both are valid."""
    overlaps = []
    for first in range(len(laid)):
        for second in range(first + 1, len(laid)):
            one = _compared(laid, first, second, bands, quantiles, looked_at)
            if one is not None:
                overlaps.append(one)
    return overlaps


def _compared(
    laid: Sequence[GridAligned],
    first: int,
    second: int,
    bands: int,
    quantiles: bool,
    looked_at: int,
) -> Overlap | None:
    window = intersection(laid[first].window, laid[second].window)
    if window is None:
        return None
    factor = max(1, int((window_area(window) / looked_at) ** 0.5))
    size = tuple(max(1, n // factor) for n in extent(window))
    asked = None if size == extent(window) else size
    a, b = (laid[k].read(range(bands), window, asked) for k in (first, second))
    valid = np.broadcast_to(a.valid & b.valid, a.values.shape)
    finite = valid & np.isfinite(a.values) & np.isfinite(b.values)
    sums, counts = np.zeros((bands, 5)), np.zeros(bands)
    shares = (np.zeros((bands, _SHARES)), np.zeros((bands, _SHARES))) if quantiles else None
    for band in range(bands):
        x, y = (physical(one.values[band][finite[band]], laid[k].source.bands[band], np.float64)
                for one, k in ((a, first), (b, second)))  # fmt: skip
        counts[band] = len(x)
        sums[band] = x.sum(), y.sum(), x @ x, y @ y, x @ y
        if shares is not None and len(x):
            for into, values in zip(shares, (x, y), strict=True):
                into[band] = np.quantile(values, np.linspace(0, 1, _SHARES))
    if counts.max() < 1:
        return None
    scale = window_area(window) / (size[0] * size[1])
    return Overlap(first, second, float(counts.max() * scale), sums, counts, shares)


def balanced(
    laid: Sequence[GridAligned], bands: int, kind: str, reference: int = 0,
    looked_at: int = LOOKED_AT,
) -> Balance:  # fmt: skip
    """Find the corrections of rasters from their overlaps.

    Raises LookError for a balance there is not.
    """
    if kind not in BALANCES:
        raise LookError(f"balance {kind!r}: expected {', '.join(BALANCES)}")
    overlaps = overlaps_of(laid, bands, quantiles=kind == "histogram", looked_at=looked_at)
    enough = [overlap for overlap in overlaps if overlap.compared.min() >= _LEAST]
    groups = _groups(len(laid), enough)
    alone = [members[0] for members in groups if len(members) == 1 and len(laid) > 1]
    if kind == "histogram":
        corrections = _matched(len(laid), bands, enough, reference)
    else:
        gains, biases = np.ones((len(laid), bands)), np.zeros((len(laid), bands))
        for members in groups:
            for band in range(bands):
                own = [overlap for overlap in enough if overlap.first in members]
                solved = _solved(members, own, band, kind == "gain+bias")
                gains[members, band], biases[members, band] = solved
        corrections = [Correction(tuple(g), tuple(b)) for g, b in
                       zip(gains.tolist(), biases.tolist(), strict=True)]  # fmt: skip
    return Balance(kind, corrections, overlaps, alone)


def _groups(count: int, overlaps: Sequence[Overlap]) -> list[list[int]]:
    """Return the groups of rasters that overlaps hold together."""
    group = list(range(count))

    def root(k: int) -> int:
        while group[k] != k:
            k = group[k]
        return k

    for overlap in overlaps:
        group[root(overlap.second)] = root(overlap.first)
    roots = [root(k) for k in range(count)]
    return [[k for k in range(count) if roots[k] == r] for r in sorted(set(roots))]


def _solved(
    members: list[int], overlaps: Sequence[Overlap], band: int, with_bias: bool
) -> tuple[F64, F64]:
    """Solve one band of one group: unit gain and no bias, plus the best change of mean 0."""
    n = len(members)
    if n == 1:
        return np.ones(1), np.zeros(1)
    place = {member: k for k, member in enumerate(members)}
    level = max(1e-30, _level(overlaps, band))
    matrix = np.zeros((2 * n, 2 * n))
    for overlap in overlaps:
        i, j = place[overlap.first], place[overlap.second]
        a, b, aa, bb, ab = overlap.sums[band] / np.array([level, level, *[level**2] * 3])
        weight = overlap.count / overlap.compared[band]
        m = overlap.compared[band]
        terms = np.array([[aa, -ab, a, -a], [-ab, bb, -b, b], [a, -b, m, -m], [-a, b, -m, m]])
        where = np.array([i, j, n + i, n + j])
        matrix[np.ix_(where, where)] += terms * weight
    used = 2 * n if with_bias else n
    matrix = matrix[:used, :used]
    # Changes of mean 0: of the gains, and of the biases.
    free = np.linalg.svd(np.ones((1, n)))[2][1:].T
    basis = np.zeros((used, (n - 1) * (used // n)))
    for k in range(used // n):
        basis[k * n : (k + 1) * n, k * (n - 1) : (k + 1) * (n - 1)] = free
    start = np.concatenate([np.ones(n), np.zeros(used - n)])
    change = np.linalg.lstsq(basis.T @ matrix @ basis, -basis.T @ matrix @ start, rcond=1e-10)[0]
    solution = start + basis @ change
    return solution[:n], solution[n:] * level if with_bias else np.zeros(n)


def _level(overlaps: Sequence[Overlap], band: int) -> float:
    squares = sum(overlap.sums[band, 2] + overlap.sums[band, 3] for overlap in overlaps)
    counts = sum(2 * overlap.compared[band] for overlap in overlaps)
    return float(np.sqrt(squares / max(counts, 1.0)))


def _matched(
    count: int, bands: int, overlaps: Sequence[Overlap], reference: int
) -> list[Correction]:
    """Match quantiles over overlaps, from the reference outward; who is not reached stays."""
    same = Correction((1.0,) * bands, (0.0,) * bands)
    done = {reference: same}
    while True:
        reach = [
            overlap for overlap in overlaps if (overlap.first in done) != (overlap.second in done)
        ]
        if not reach:
            break
        best = max(reach, key=lambda one: one.count)
        known, new = ((best.first, best.second) if best.first in done
                      else (best.second, best.first))  # fmt: skip
        assert best.shares is not None
        own, other = best.shares if new == best.first else best.shares[::-1]
        curves = []
        for band in range(bands):
            xs, where = np.unique(own[band], return_index=True)
            ys = np.maximum.accumulate(done[known].value(other[band], band))
            last = np.searchsorted(own[band], xs, "right") - 1
            middle = (ys[where] + ys[last]) / 2  # a value held by many takes the middle of theirs
            curves.append((tuple(xs.tolist()), tuple(middle.tolist())))
        done[new] = Correction((1.0,) * bands, (0.0,) * bands, tuple(curves))
    return [done.get(k, same) for k in range(count)]


def overlap_rows(
    laid: Sequence[GridAligned], source: Source, overlaps: Sequence[Overlap],
    corrections: Sequence[Correction] | None, after: Sequence[Overlap] | None = None,
) -> list[dict[str, Any]]:  # fmt: skip
    """Return a row per overlap and band: its area, and the mean difference before and after."""
    rows = []
    pixel = float(np.prod(source.grid.pixel_size))
    for overlap in overlaps:
        for band, described in enumerate(source.bands):
            m = max(overlap.compared[band], 1.0)
            a, b = overlap.sums[band, 0] / m, overlap.sums[band, 1] / m
            row: dict[str, Any] = {
                "first": laid[overlap.first].name, "second": laid[overlap.second].name,
                "band": described.name, "pixels": round(overlap.count),
                "area": overlap.count * pixel, "before": b - a, "unit": described.unit,
            }  # fmt: skip
            if corrections is not None:
                x, y = corrections[overlap.first], corrections[overlap.second]
                row["after"] = _mean_after(overlap, y, 1, b, band) - _mean_after(
                    overlap, x, 0, a, band
                )
            rows.append(row)
    return rows


def _mean_after(
    overlap: Overlap, correction: Correction, side: int, mean: float, band: int
) -> float:
    """Return the corrected mean: from the mean itself, or through the quantiles of a curve."""
    if correction.curve is None:
        return mean * correction.gain[band] + correction.bias[band]
    assert overlap.shares is not None
    held = overlap.shares[side][band]
    middles = (held[:-1] + held[1:]) / 2
    return float(correction.value(middles, band).mean() - middles.mean() + mean)
