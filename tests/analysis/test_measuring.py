"""Statistics, histograms and percentiles, against NumPy on the whole array."""

from __future__ import annotations

import json
from dataclasses import asdict

import numpy as np
import pytest
from tests.conftest import DTYPES

from spectrane.analysis import ranking
from spectrane.analysis.description import describe, printable
from spectrane.analysis.histogram import band_histogram
from spectrane.analysis.statistics import band_statistics
from spectrane.analysis.walking import sampled
from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.window import whole


def scattered(rng, dtype, shape=(2, 300, 260)):
    dtype = np.dtype(dtype)
    low, high = (0, 240) if dtype.kind == "u" else (-120, 120)
    array = rng.normal((low + high) / 2, 40, shape).clip(low, high).astype(dtype)
    if dtype.kind == "f":
        array[0, 5:50] = np.nan
        array[1, 0, :3] = np.inf, -np.inf, np.nan
    return array


def measured(array, band):
    """Return the physical values that count, in float64."""
    values = array.astype(np.float64)[np.isfinite(array)]
    values = values[values != 7] if band.nodata == 7 else values
    return values * band.scale + band.offset


BANDS = [Band("a", nodata=7, unit="m"), Band("b", scale=-2.0, offset=1.0)]


@pytest.mark.parametrize("dtype", DTYPES)
def test_statistics(rng, form, dtype):
    array = scattered(rng, dtype)
    seen = []
    source = ArraySource(array, bands=BANDS)
    source.block_shape = (64, 64)
    found = band_statistics(source, [0, 1], None, lambda done, total: seen.append((done, total)))
    assert seen[-1] == (300 * 260, 300 * 260)
    for k, (band, one) in enumerate(zip(BANDS, found)):
        values = measured(array[k], band)
        assert (one.band, one.unit) == (band.name, band.unit)
        assert (one.valid, one.invalid) == (values.size, array[k].size - values.size)
        wanted = [values.min(), values.max(), values.mean(), values.std()]
        assert [one.min, one.max, one.mean, one.std] == pytest.approx(wanted, rel=1e-10, abs=1e-11)
        exact = np.percentile(values, [1, 50, 99])
        assert [one.p1, one.p50, one.p99] == pytest.approx(list(exact), rel=1e-12)


@pytest.mark.parametrize("dtype", DTYPES)
def test_histograms_hold_every_valid_value(rng, dtype):
    array = scattered(rng, dtype)
    found = band_histogram(ArraySource(array, bands=BANDS), [0, 1])
    for k, band in enumerate(BANDS):
        values = measured(array[k], band)
        edges, counts = found.edges[k], found.counts[k]
        assert (np.diff(edges) > 0).all()
        assert len(edges) == len(counts) + 1
        assert counts.sum() == values.size
        assert found.invalid[k] == array[k].size - values.size
        if array.dtype.itemsize <= 2 and array.dtype.kind != "f":
            np.testing.assert_array_equal(counts, np.histogram(values, edges)[0])
        else:
            assert len(counts) == 4096
            assert (edges[0], edges[-1]) == pytest.approx((values.min(), values.max()))


@pytest.mark.parametrize("dtype", ["u2", "f4"])
def test_histograms_in_a_given_range(rng, dtype):
    array = scattered(rng, dtype)
    source = ArraySource(array, bands=BANDS)
    found = band_histogram(source, [1], bins=20, value_range=(-300.0, -100.0))
    values = measured(array[1], BANDS[1])
    wanted, _ = np.histogram(values, 20, (-300, -100))
    np.testing.assert_array_equal(found.counts[0], wanted)
    assert found.outside[0] == values.size - wanted.sum()
    for options, match in (({"bins": 0}, "above 0"), ({"value_range": (2, 2)}, "low < high")):
        with pytest.raises(LookError, match=match):
            band_histogram(source, [0], **options)


def test_a_window_and_nothing_valid(rng):
    array = rng.integers(0, 9, (1, 50, 60)).astype("u1")
    array[0, :10] = 255
    source = ArraySource(array, bands=[Band("a", nodata=255)])
    part = band_statistics(source, [0], ((20, 30), (5, 10)))[0]
    assert (part.valid, part.max) == (50, array[0, 20:30, 5:10].max())
    for dtype in ("u1", "f4"):
        empty = ArraySource(np.full((1, 9, 9), 255, dtype), bands=[Band("a", nodata=255)])
        one = band_statistics(empty, [0])[0]
        assert (one.valid, one.invalid) == (0, 81)
        assert np.isnan([one.min, one.mean, one.std, one.p50]).all()
        assert band_histogram(empty, [0]).counts[0].sum() == 0


@pytest.mark.parametrize("dtype", ["f4", "f8", "i4", "u4", "i8", "u8"])
def test_percentiles_in_batches_are_exact(rng, form, dtype):
    values = rng.normal(0, 1, 30011) * 10.0 ** rng.integers(0, 8, 30011)
    values = np.abs(values).astype(dtype) if dtype.startswith("u") else values.astype(dtype)
    values[:5000] = values[0]  # many of one value
    batches = [part.copy() for part in np.array_split(values, 7)]
    percents = [0, 0.1, 2, 33.3, 50, 98, 100]
    found = ranking.exact_percentiles(lambda: batches, percents)
    assert found == pytest.approx(
        list(np.percentile(values.astype(np.float64), percents)), rel=1e-12
    )


def test_percentiles_of_few_values():
    for values, wanted in (([], np.nan), ([4.0], 4.0), ([1.0, 2.0], 1.5)):
        array = np.array(values, np.float32)
        found = ranking.exact_percentiles(lambda: [array], [50])
        assert found == pytest.approx([wanted], nan_ok=True)


def test_samples_are_spread_evenly(rng):
    array = np.broadcast_to(np.arange(1000)[:, None], (1000, 1000)).astype("u2")[None]
    source = ArraySource(array)
    source.block_shape = (50, 50)
    values = np.concatenate(
        [blocks[0] for blocks in sampled(source, [0], whole((1000, 1000)), 200_000)()]
    )
    assert 1.5e5 < values.size < 4e5
    assert abs(values.mean() - 499.5) < 60


@pytest.fixture
def described(utm):
    bands = [Band("a\x1b[2J", "red", 665.0, "m", 0.1, nodata=0), Band("<b>", nodata=(1, (5, 9)))]
    source = ArraySource(
        np.arange(2 * 70 * 90, dtype="u2").reshape(2, 70, 90), grid=utm, bands=bands
    )
    return describe(source, [asdict(one) for one in band_statistics(source, [0, 1])])


def test_a_description_says_what_to_check(described):
    text = str(described)
    for part in ("90 columns x 70 rows, uint16", "EPSG:32727", "x 480000, y 7360000",
                 "x 480900, y 7359300", "1, 5 to 9", "665", "Median"):  # fmt: skip
        assert part in text
    assert "\x1b" not in text  # a file's text must not steer the terminal
    assert "&lt;b&gt;" in described._repr_html_()
    facts = json.loads(json.dumps(described.to_dict()))
    assert facts["bands"][0]["number"] == 1
    assert facts["bounds"] == [480000, 7359300, 480900, 7360000]
    assert facts["statistics"][0]["invalid"] == 1


def test_classes_and_no_place_are_described():
    look = Look(classes={1: ("#ff0000", "sea"), 2: ("#00ff00", "")})
    source = ArraySource(np.ones((1, 4, 4), "u1"), grid=Grid((4, 4)), look=look)
    text = str(describe(source))
    assert "1 sea, 2 #00ff00" in text
    assert "positions are rows and columns" in text
    assert printable("a\tb\nc\u202e") == "a?b\nc?"
