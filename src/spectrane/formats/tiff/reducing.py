"""Overviews made on the way: each level halves the one before, row by row as it comes."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.threads import in_parallel
from spectrane.model.physical import value_dtype

Sums = NDArray[np.floating[Any]]


class MeanLevel:
    """Sums and weights of the valid pixels under each pixel of one overview.

    Rows come in from the level above in any even number (the last may be odd) and go out as
    stored numbers. Sums, not means, are handed down, so that every level is the mean of the
    pixels measured, rounded once.
    """

    def __init__(self, full: tuple[int, int], shape: tuple[int, int], factor: int) -> None:
        self.full, self.shape, self.factor = full, shape, factor
        self.row = 0

    def stored(
        self, sums: Sums, weights: Sums | None, dtype: np.dtype[Any]
    ) -> tuple[NDArray[Any], NDArray[np.bool_] | None]:
        """Return means in the stored type, rounded half up, and where they are valid."""
        covered = self.covered(self.row, sums.shape[1])
        self.row += sums.shape[1]
        out = np.empty(sums.shape, dtype)
        enough = None if weights is None else weights >= 0.5 * covered

        def one(job: tuple[int, slice]) -> None:
            k, rows = job
            kept = covered[rows] if weights is None else np.maximum(weights[k, rows], 1)
            out[k, rows] = rounded(sums[k, rows] / kept, dtype)

        in_parallel(_jobs(len(sums), sums.shape[1]), lambda: one)
        return out, enough

    def covered(self, row: int, rows: int) -> Sums:
        """Return how many full-resolution pixels each pixel of some rows covers."""
        sides = []
        for start, count, full in ((row, rows, self.full[0]), (0, self.shape[1], self.full[1])):
            edges = np.minimum((start + np.arange(count + 1)) * self.factor, full)
            sides.append(np.diff(edges).astype(np.float32))
        return np.multiply.outer(sides[0], sides[1])


def halved(block: Sums) -> Sums:
    """Return the sums over each 2 x 2 of (bands, rows, columns); odd edges sum what is there.

    Sums of undeclared fill such as -3.4e38 can pass the type's range; ``rounded`` keeps them.
    """
    _, rows, columns = block.shape
    if rows % 2 or columns % 2:
        block = np.pad(block, ((0, 0), (0, rows % 2), (0, columns % 2)))
    with np.errstate(over="ignore"):
        pairs = block[:, 0::2] + block[:, 1::2]
        return np.asarray(pairs[:, :, 0::2] + pairs[:, :, 1::2])


def rounded(values: NDArray[Any], dtype: np.dtype[Any]) -> NDArray[Any]:
    """Return numbers in a stored type, clamped to its range; integers rounded half up."""
    if dtype.kind == "f":
        most = np.finfo(dtype).max
        return np.asarray(np.clip(values, -most, most).astype(dtype))
    limits = np.iinfo(dtype)
    top = values.dtype.type(limits.max)
    if int(top) > limits.max:  # 2**63 - 1 has no neighbour this near in floats
        top = np.nextafter(top, values.dtype.type(0))
    result = values + values.dtype.type(0.5)
    np.floor(result, out=result)
    return np.asarray(np.clip(result, limits.min, top, out=result).astype(dtype))


def first_halves(
    values: NDArray[Any], valid: NDArray[np.bool_], alpha: NDArray[Any] | None = None
) -> tuple[Sums, Sums | None]:
    """Return the sums and weights of the first overview's rows, alpha as a last band.

    Weights None: all is valid. NaN and infinity have no weight.
    """
    bands, rows, columns = values.shape
    planes = [*values] + ([] if alpha is None else [alpha])
    size = (len(planes), -(-rows // 2), -(-columns // 2))
    sums = np.empty(size, value_dtype(values.dtype))
    weights = np.empty(size, np.float32)
    full = np.ones((1, 1), bool)
    gaps = []

    def one(job: tuple[int, slice]) -> None:
        k, part = job
        half = slice(part.start // 2, -(-part.stop // 2))
        mask = valid[min(k, len(valid) - 1)] if k < bands else full
        mask = mask[part] if len(mask) > 1 else mask
        wide, seen = _weighed(planes[k][part], mask, sums.dtype)
        sums[k, half] = halved(wide[np.newaxis])[0]
        weights[k, half] = halved(np.broadcast_to(seen, wide.shape)[np.newaxis].astype(np.float32))
        if not seen.all():
            gaps.append(job)

    in_parallel(_jobs(len(planes), rows), lambda: one)
    return sums, weights if gaps else None


def _jobs(bands: int, rows: int) -> list[tuple[int, slice]]:
    """Return bands and runs of 64 rows, which stay in cache and need no large temporaries."""
    starts = range(0, rows, 64)
    return [(k, slice(start, min(start + 64, rows))) for k in range(bands) for start in starts]


def _weighed(
    plane: NDArray[Any], valid: NDArray[np.bool_], dtype: np.dtype[Any]
) -> tuple[Sums, NDArray[np.bool_]]:
    wide = plane.astype(dtype)
    seen = valid & np.isfinite(wide) if plane.dtype.kind == "f" else valid
    if not seen.all():
        wide[np.broadcast_to(~seen, wide.shape)] = 0
    return wide, seen


def majority_of_four(
    values: NDArray[Any], valid: NDArray[np.bool_] | None
) -> tuple[NDArray[Any], NDArray[np.bool_] | None]:
    """Return the commonest valid value of each 2 x 2; ties go to the lowest.

    ``values`` and ``valid`` are (bands, rows, columns); odd edges look at what is there.

    >>> majority_of_four(np.array([[[3, 1], [3, 2]]]), None)[0].tolist()
    [[[3]]]
    """
    _, rows, columns = values.shape
    seen = np.ones(values.shape, bool) if valid is None else np.broadcast_to(valid, values.shape)
    width = ((0, 0), (0, rows % 2), (0, columns % 2))
    wide = np.pad(np.where(seen, values.astype(np.float64), np.inf), width, constant_values=np.inf)
    four = np.sort(np.stack([wide[:, i::2, j::2] for i in (0, 1) for j in (0, 1)]), axis=0)
    a, b, c, d = four
    later = np.where((c == d) & np.isfinite(c), c, a)
    winner = np.where(a == b, a, np.where((b == c) & np.isfinite(b), b, later))
    count = np.isfinite(four).sum(axis=0)
    inside = np.pad(np.ones((1, rows, columns)), width)
    enough = (count >= 0.5 * halved(inside)) & (count > 0)
    winner = np.where(enough, winner, 0).astype(values.dtype)
    return winner, None if enough.all() else enough
