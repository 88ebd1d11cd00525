"""Reading at another size, against plain NumPy."""

from __future__ import annotations

import numpy as np
import pytest
from tests.conftest import natural

from spectrane.engine import pyramid
from spectrane.engine.memory import ArraySource
from spectrane.engine.pyramid import read_resized
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.model.band import Band
from spectrane.model.errors import LookError, MetadataError, ResourceError
from spectrane.model.pixels import Pixels
from spectrane.model.source import check_answer
from spectrane.model.window import extent, whole


def cover(low, high, count, length):
    """Return (count, length) weights: how much of each input each output covers."""
    edges = np.linspace(low, high, count + 1)
    at = np.arange(length)
    return np.clip(np.minimum(edges[1:, None], at + 1) - np.maximum(edges[:-1, None], at), 0, None)


def area_oracle(values, valid, window, size):
    """Return means (float64) and validity by dense matrices."""
    (top, bottom), (left, right) = window
    rows = cover(top, bottom, size[0], values.shape[0])
    columns = cover(left, right, size[1], values.shape[1])
    weights = rows @ valid.astype(float) @ columns.T
    sums = rows @ np.where(valid, values, 0).astype(float) @ columns.T
    full = (bottom - top) / size[0] * (right - left) / size[1]
    enough = weights >= full / 2 - 1e-9
    return np.where(enough, sums / np.where(weights > 0, weights, 1), np.nan), enough


@pytest.mark.parametrize("dtype", ["u1", "u2", "i2", "i4", "f4", "f8"])
@pytest.mark.parametrize("limit", [pyramid.AT_ONCE, 1000], ids=["at once", "by blocks"])
@pytest.mark.parametrize(
    ("window", "size"),
    [
        (((0, 70), (0, 90)), (35, 45)),
        (((0, 70), (0, 90)), (23, 31)),
        (((3, 66), (5, 88)), (7, 60)),
        (((3, 66), (5, 88)), (100, 9)),
        (((10, 11), (10, 90)), (1, 3)),
    ],
)
def test_area_means(rng, form, monkeypatch, dtype, limit, window, size):
    monkeypatch.setattr(pyramid, "AT_ONCE", limit)
    values = natural(rng, (2, 70, 90), dtype)
    mask = rng.random((2, 70, 90)) > 0.4
    if values.dtype.kind == "f":
        values[0, :9, :9] = np.nan
        values[1, 50, 50] = np.inf
    source = ArraySource(values, mask=mask)
    source.block_shape = (16, 32)
    got = source.read([0, 1], window, size, "area")
    valid = mask & np.isfinite(values.astype(float))
    for band in range(2):
        means, enough = area_oracle(values[band], valid[band], window, size)
        np.testing.assert_array_equal(np.broadcast_to(got.valid, got.values.shape)[band], enough)
        scale = np.abs(values[band][valid[band]].astype(float)).max()
        np.testing.assert_allclose(got.values[band], means, rtol=2e-6, atol=1e-6 * scale)
    assert got.values.dtype == (np.float64 if dtype in ("i4", "f8") else np.float32)


@pytest.mark.parametrize("limit", [pyramid.AT_ONCE, 1000])
@pytest.mark.parametrize("size", [(70, 90), (35, 30), (7, 200), (140, 180)])
def test_nearest_takes_the_pixel_that_holds_the_centre(rng, monkeypatch, limit, size):
    monkeypatch.setattr(pyramid, "AT_ONCE", limit)
    values = natural(rng, (2, 70, 90), "u2")
    mask = rng.random((1, 70, 90)) > 0.4
    source = ArraySource(values, mask=mask, alpha=values[0])
    source.block_shape = (16, 32)
    got = source.read([1], ((0, 70), (0, 90)), size, "nearest")
    rows, columns = (((np.arange(n) + 0.5) * m / n).astype(int) for n, m in zip(size, (70, 90)))
    np.testing.assert_array_equal(got.values[0], values[1][np.ix_(rows, columns)])
    np.testing.assert_array_equal(got.mask[0], mask[0][np.ix_(rows, columns)])
    np.testing.assert_array_equal(got.alpha, values[0][np.ix_(rows, columns)])


@pytest.mark.parametrize("chunk", [pyramid.AT_ONCE, 500])
@pytest.mark.parametrize("size", [(35, 45), (20, 17), (9, 90)])
def test_majority_is_the_largest_share(rng, monkeypatch, chunk, size):
    monkeypatch.setattr(pyramid, "AT_ONCE", chunk)
    values = rng.integers(0, 4, (1, 70, 90)).astype("u1")
    source = ArraySource(values, bands=[Band("kind", nodata=0)])
    got = source.read([0], whole(source.shape), size, "majority")
    rows, columns = cover(0, 70, size[0], 70), cover(0, 90, size[1], 90)
    shares = np.stack([rows @ (values[0] == k).astype(float) @ columns.T for k in (1, 2, 3)])
    full = 70 / size[0] * 90 / size[1]
    np.testing.assert_array_equal(got.valid[0], shares.sum(0) >= full / 2 - 1e-9)
    best = np.take_along_axis(shares, got.values[0][None].astype(int) - 1, 0)[0]
    seen = got.valid[0]
    np.testing.assert_allclose(best[seen], shares.max(0)[seen], atol=1e-5)


def test_ties_go_to_the_lowest_class():
    source = ArraySource(np.array([[[3, 1], [1, 3]]], np.uint8))
    assert source.read([0], whole(source.shape), (1, 1), "majority").values.item() == 1


def test_under_all_a_zero_in_one_band_counts(form):
    values = np.array([[[0, 0]], [[0, 8]]], np.uint8)
    source = ArraySource(values, bands=[Band("a", nodata=0), Band("b", nodata=0)])
    assert source.read([0, 1], whole(source.shape), (1, 1), "area").values[:, 0, 0].tolist() == [
        pytest.approx(np.nan, nan_ok=True), 8.0]  # fmt: skip
    source.nodata_when = "all"
    assert source.read([0, 1], whole(source.shape), (1, 1), "area").values[:, 0, 0].tolist() == [
        0.0, 8.0]  # fmt: skip


def test_wrong_requests_are_told(rng):
    source = ArraySource(np.zeros((1, 4, 4), np.uint8))
    with pytest.raises(LookError, match="expected one of nearest, area, majority"):
        source.read([0], whole(source.shape), (2, 2), "sinc")
    with pytest.raises(LookError, match="positive whole numbers"):
        source.read([0], whole(source.shape), (0, 2))
    with pytest.raises(ResourceError, match="ask for a window"):
        check_answer(4, (100_000, 100_000), np.dtype("u2"))
    for array, match in (
        (np.zeros((0, 4)), "none of them 0"), (np.zeros((2, 2), complex), "complex"),
    ):  # fmt: skip
        with pytest.raises(MetadataError, match=match):
            ArraySource(array[np.newaxis])


def test_threads_share_work_and_failures():
    found, parts = [], row_parts(1000, 1000)
    in_parallel(parts, lambda: lambda part: found.extend(range(part.start, part.stop)))
    assert sorted(found) == list(range(1000))

    def fail(item):
        raise ValueError(f"item {item}")

    with pytest.raises(ValueError, match="item"):
        in_parallel([1, 2, 3], lambda: fail, threads=3)


class Counted:
    """A level that notes that it was read."""

    def __init__(self, shape, scale, seen):
        self.shape, self.scale, self.seen = shape, (scale, scale), seen

    def read(self, bands, window):
        self.seen.append(self.scale[0])
        return Pixels(np.zeros((1, *extent(window)), np.uint8))


@pytest.mark.parametrize(("wanted", "used"), [
    (100, 8.0), (99, 8.0), (101, 4.0), (200, 4.0), (201, 1.0), (399, 1.0)])  # fmt: skip
@pytest.mark.parametrize("kernel", ["area", "bilinear"])
def test_an_overview_serves_down_to_its_own_pixels_and_a_thousandth_more(wanted, used, kernel):
    seen = []
    levels = [Counted((800, 800), 1.0, seen), Counted((200, 200), 4.0, seen),
              Counted((100, 100), 8.0 if wanted != 100 else 8.007, seen)]  # fmt: skip
    read_resized(levels, [0], ((0, 800), (0, 800)), (wanted, wanted), kernel)
    assert {round(scale) for scale in seen} == {used}


@pytest.mark.parametrize(("scale", "serves"), [(8.007, True), (8.009, False)])
def test_the_thousandth_is_one(scale, serves):
    seen = []
    levels = [Counted((800, 800), 1.0, seen), Counted((100, 100), scale, seen)]
    read_resized(levels, [0], ((0, 800), (0, 800)), (100, 100), "area")
    assert (seen[0] == scale) == serves
