"""Kernels that mix neighbours, against the definition written out pixel by pixel."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.kernels.convolving import KERNELS

HALF = 0.5 * (1 - 1e-9)


def kernel(name, x):
    a = abs(x)
    if name == "bilinear":
        return max(0.0, 1 - a)
    if name == "cubic":
        return (1.5 * a - 2.5) * a * a + 1 if a <= 1 else (
            ((-0.5 * a + 2.5) * a - 4) * a + 2 if a < 2 else 0.0)  # fmt: skip
    if name == "lagrange":
        return (1 - a * a) * (2 - a) / 2 if a <= 1 else (
            (1 - a) * (2 - a) * (3 - a) / 6 if a < 2 else 0.0)  # fmt: skip
    found = float(np.sinc(a) * np.sinc(a / 3)) if a < 3 else 0.0
    return found if abs(found) > 1e-12 else 0.0


def weights(name, at, step, length):
    wide = max(1.0, step) if name != "lagrange" else 1.0
    found = {}
    for k in range(int(np.floor(at - 4 * wide)), int(np.ceil(at + 4 * wide)) + 1):
        found[k] = kernel(name, (k + 0.5 - at) / wide) / wide
    if name == "lanczos" or wide > 1:
        total = sum(found.values())
        found = {k: w / total for k, w in found.items()}
    return {k: w for k, w in found.items() if 0 <= k < length and w != 0}


def oracle(name, array, valid, size):
    rows, columns = array.shape
    steps = rows / size[0], columns / size[1]
    out = np.full(size, np.nan)
    for r in range(size[0]):
        down = weights(name, (r + 0.5) * steps[0], steps[0], rows)
        for c in range(size[1]):
            across = weights(name, (c + 0.5) * steps[1], steps[1], columns)
            pairs = [(i, j, u * v) for i, u in down.items() for j, v in across.items()]
            seen = [(array[i, j], w) for i, j, w in pairs if valid[i, j]]
            full, kept = sum(w for *_, w in pairs), sum(w for _, w in seen)
            magnitude = sum(abs(w) for _, w in seen), sum(abs(w) for *_, w in pairs)
            if seen and magnitude[0] >= magnitude[1] * HALF and kept >= full * HALF:
                value = sum(v * w for v, w in seen) / kept
                if len(seen) < len(pairs):
                    numbers = [v for v, _ in seen]
                    value = min(max(value, min(numbers)), max(numbers))
                out[r, c] = value
    return out


@pytest.mark.parametrize("name", KERNELS)
@pytest.mark.parametrize("size", [(24, 33), (13, 11), (5, 6), (12, 40)])
@pytest.mark.parametrize("holes", [False, True])
def test_each_kernel_is_its_definition(rng, name, size, holes):
    array = rng.normal(100, 20, (13, 17)).astype("f4")
    valid = np.ones(array.shape, bool)
    if holes:
        valid[4:8, 5:9] = valid[0, 0] = False
        valid[rng.random(array.shape) < 0.1] = False
    raster = sp.from_array(np.ma.MaskedArray(array, ~valid))
    got = raster.pixels(size=size, resample=name)[0]
    wanted = oracle(name, array.astype(float), valid, size)
    np.testing.assert_array_equal(got.mask if holes else np.zeros(size, bool), np.isnan(wanted))
    both = ~np.isnan(wanted)
    np.testing.assert_allclose(got.data[both], wanted[both], rtol=2e-5, atol=2e-4)


@pytest.mark.parametrize("name", KERNELS)
def test_a_window_a_crop_and_the_whole_agree(rng, name):
    array = rng.integers(0, 1000, (40, 50)).astype("u2")
    raster = sp.from_array(array)
    whole = raster.pixels(size=(80, 100), resample=name)[0]
    part = raster.pixels(rows=(10, 30), columns=(5, 25), size=(40, 40), resample=name)[0]
    np.testing.assert_array_equal(part, whole[20:60, 10:50])


@pytest.mark.parametrize("name", KERNELS)
def test_a_flat_field_stays_flat_to_the_rim(name):
    raster = sp.from_array(np.full((9, 9), 7, "u1"))
    for size in ((30, 30), (4, 4)):
        found = raster.pixels(size=size, resample=name)
        assert (found == 7).all()
        assert not np.ma.getmaskarray(found).any()


@pytest.mark.parametrize("name", KERNELS)
def test_pictures_by_every_kernel(rng, name):
    raster = sp.from_array(rng.integers(0, 255, (20, 20)).astype("u1"))
    picture = sp.render(raster, sp.Look(resample=name, limits="type"), size=(60, 60))
    assert picture.rgba.shape == (60, 60, 4)


def test_classes_are_never_mixed():
    raster = sp.from_array(np.uint8([[1, 2], [2, 1]]))
    look = sp.Look(classes={1: ("#ff0000", "a"), 2: ("#00ff00", "b")}, resample="cubic")
    with pytest.warns(sp.DataWarning, match="classes cannot be interpolated"):
        picture = sp.render(raster, look, size=(8, 8))
    assert {tuple(c) for c in picture.rgba.reshape(-1, 4).tolist()} == {
        (255, 0, 0, 255), (0, 255, 0, 255)
    }  # fmt: skip
