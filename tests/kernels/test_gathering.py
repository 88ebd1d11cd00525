"""Kernels at any positions, against the definition written out, in both forms."""

from __future__ import annotations

import numpy as np
import pytest
from tests.kernels.test_convolving import HALF, kernel

from spectrane.kernels import gathering


def axis_weights(name, at, scale, length):
    if name == "area":
        span = range(int(np.floor(at - scale)) - 1, int(np.ceil(at + scale)) + 2)
        overlap = {k: min(k + 1, at + scale / 2) - max(k, at - scale / 2) for k in span}
        return {k: w for k, w in overlap.items() if w > 0 and 0 <= k < length}
    wide = scale if scale > gathering.NEAR_ONE and name != "lagrange" else 1.0
    span = range(int(np.floor(at - 4 * wide)), int(np.ceil(at + 4 * wide)) + 1)
    found = {k: kernel(name, (k + 0.5 - at) / wide) for k in span}
    return {k: w for k, w in found.items() if 0 <= k < length and w != 0}


def at_point(name, plane, row, column, scales):
    rows, columns = plane.shape
    if not (0 <= row < rows and 0 <= column < columns):
        return np.nan
    down, across = (
        axis_weights(name, row, scales[0], rows),
        axis_weights(name, column, scales[1], columns),
    )
    taps = [(plane[i, j], u * v) for i, u in down.items() for j, v in across.items()]
    seen = [(value, w) for value, w in taps if np.isfinite(value)]
    signed, full = sum(w for _, w in seen), sum(w for _, w in taps)
    absolute = sum(abs(w) for _, w in seen), sum(abs(w) for _, w in taps)
    if not seen or absolute[0] < HALF * absolute[1] or signed < HALF * full:
        return np.nan
    value = sum(v * w for v, w in seen) / signed
    if len(seen) < len(taps):
        numbers = [v for v, _ in seen]
        value = min(max(value, min(numbers)), max(numbers))
    return value


@pytest.mark.parametrize("name", gathering.CODES)
@pytest.mark.parametrize("scales", [(1.0, 1.0), (2.6, 1.4), (0.4, 1.0)])
@pytest.mark.parametrize("dtype", ["f4", "f8"])
def test_every_kernel_is_its_definition(form, rng, name, scales, dtype):
    plane = rng.normal(50, 20, (17, 14)).astype(dtype)
    plane[4:8, 5:9] = np.nan
    plane[rng.random(plane.shape) < 0.05] = np.nan
    plane[12, 3] = np.inf
    rows = rng.uniform(-1, 18, (6, 20))
    columns = rng.uniform(-1, 15, (6, 20))
    rows[0, :3] = np.nan, 0.0, 16.999
    out = np.empty(rows.shape, dtype)
    gathering.gathered.choose(1)(plane, columns, rows, name, scales, out)
    wanted = [
        [at_point(name, plane.astype("f8"), r, c, scales) for r, c in zip(*pair)]
        for pair in zip(rows, columns)
    ]
    np.testing.assert_allclose(out, wanted, rtol=2e-5 if dtype == "f4" else 1e-9)


def test_a_lattice_is_filled_bilinearly(form, rng):
    nodes = rng.normal(size=(4, 5))
    out = np.empty((9, 11))
    gathering.bilinear_cells.choose(1)(nodes, (2.5, 0.5), 4.0, out)
    for i, j in ((0, 0), (3, 7), (8, 10)):
        r, c = (2.5 + i) / 4, (0.5 + j) / 4
        k, m, u, v = int(r), int(c), r % 1, c % 1
        square = nodes[k : k + 2, m : m + 2]
        assert out[i, j] == pytest.approx(np.array([1 - u, u]) @ square @ np.array([1 - v, v]))


def test_majority_counts_areas_and_ties_go_low():
    plane = np.array([[1, 1, 5], [5, 5, 5], [9, 9, 0]], "u1")
    valid = plane > 0
    rows, columns = np.array([[1.0, 1.5, 2.5]]), np.array([[1.0, 1.5, 2.9]])
    found, kept = gathering.majority_at(plane, valid, columns, rows, (2.0, 2.0))
    assert kept.tolist() == [[True, True, False]]  # at last less than half
    assert found[0, :2].tolist() == [1, 5]  # two of each: the lower
    assert not gathering.majority_at(
        plane, valid, np.array([[2.5]]), np.array([[2.9]]), (0.5, 0.5)
    )[1].any()
