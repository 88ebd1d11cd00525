"""Each kernel's two forms against each other and against the definition."""

from __future__ import annotations

import os
import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest
from tests.tiff_builder import predicted

from spectrane.kernels import choice, counting, measuring, prediction, steps, tables
from spectrane.kernels.levels import level, relative_position


def forms(twin):
    return twin.reference, twin.loop()


@pytest.mark.parametrize("dtype", ["u1", "u2"])
@pytest.mark.parametrize("show_any", [False, True])
def test_words_from_tables(rng, dtype, show_any):
    top = np.iinfo(dtype).max + 1
    bands = [rng.integers(0, top, (130, 70)).astype(dtype) for _ in range(3)]
    made = [(rng.integers(0, 256, top) | (rng.integers(0, 2, top) << 8)).astype("u2")
            for _ in range(3)]  # fmt: skip
    entries = np.stack([table[band] for table, band in zip(made, bands)])
    valid = (entries >> 8).any(0) if show_any else (entries >> 8).all(0)
    levels = (entries & 255).astype(np.uint64)
    wanted = np.where(valid, levels[0] | levels[1] << 8 | levels[2] << 16 | 0xFF000000, 0x01020304)
    for words in forms(tables.words):
        out = np.zeros((130, 70), np.uint32)
        words(bands, made, show_any, 0x01020304, out)
        np.testing.assert_array_equal(out, wanted)


def test_words_of_one_band(rng):
    band = rng.integers(0, 65536, (77, 30)).astype("u2")
    palette = rng.integers(0, 2**32, 65536, dtype=np.uint32)
    for words in forms(tables.indexed_words):
        out = np.zeros(band.shape, np.uint32)
        words(band[::1, ::-1], palette, out)
        np.testing.assert_array_equal(out, palette[band[:, ::-1]])


@pytest.mark.parametrize("dtype", ["u1", "i1", "u2", "i2", "?", ">u2"])
def test_index_and_value_agree(dtype):
    dtype = np.dtype(dtype)
    values = tables.index_values(dtype.newbyteorder("="))
    some = values[:: max(1, len(values) // 300)].astype(dtype)
    np.testing.assert_array_equal(values[tables.as_index(some)], some)


DEFINITIONS = {
    "linear": lambda v: relative_position(v, -3.7, 812.5),
    "inverted": lambda v: 1 - relative_position(v, -3.7, 812.5),
    "low above high": lambda v: relative_position(v, 812.5, -3.7),
    "steep log": lambda v: np.log10(1 + 999 * relative_position(v, 1e-3, 5e4)) / 3,
    "root": lambda v: np.sqrt(relative_position(v, 0, 1e30)),
    "one value": lambda v: relative_position(v, 5.0, 5.0),
    "constant": lambda v: np.where(np.isnan(v), v, 0.25),
}
LINES = {
    "linear": steps.Line(1.0, 0.0, -3.7, 816.2, False),
    "inverted": steps.Line(1.0, 0.0, -3.7, 816.2, True),
    "low above high": steps.Line(1.0, 0.0, 812.5, -816.2, False),
}


@pytest.mark.parametrize("name", DEFINITIONS)
def test_float_levels_are_exact(rng, name):
    def leveled(v):
        return level(DEFINITIONS[name](v), 255)

    stair = replace(steps.staircase(leveled), line=LINES.get(name))
    finite = stair.steps[np.isfinite(stair.steps)]
    hard = np.concatenate([finite, np.nextafter(finite, -np.inf, dtype=np.float32)])
    random = rng.normal(0, 1, 5000) * 10.0 ** rng.integers(-6, 31, 5000)
    special = [np.nan, np.inf, -np.inf, 0, -0.0, 5, 1e-45, 3.4e38]
    values = np.concatenate([hard, random, special]).astype(np.float32)
    values = values[: len(values) // 7 * 7].reshape(-1, 7)
    with np.errstate(invalid="ignore"):
        wanted = np.nan_to_num(leveled(values.astype(np.float64)), nan=0).astype(np.uint8)
    for fill in forms(steps.step_levels):
        out = np.empty(values.shape, np.uint8)
        fill(values, stair, out)
        np.testing.assert_array_equal(out, wanted)
    palette = rng.integers(0, 2**32, 256, dtype=np.uint32)
    hidden = np.isnan(values) | (values == np.float32(5))
    for fill in forms(steps.step_words):
        words = np.empty(values.shape, np.uint32)
        fill(values, stair, palette, 5.0, 99, words)
        np.testing.assert_array_equal(words, np.where(hidden, 99, palette[wanted]))


@pytest.mark.parametrize(("dtype", "size"), [("u1", 256), ("u2", 65536)])
@pytest.mark.parametrize("count", [0, 1, 2, 70001])
def test_counting_integers(rng, dtype, size, count):
    values = rng.integers(0, size, count).astype(dtype)
    for add in forms(counting.count_indices):
        counts = np.ones(size, np.int64)
        add(values, counts)
        np.testing.assert_array_equal(counts - 1, np.bincount(values, minlength=size))


RANGES = [  # low, high, scale, offset of the values; bins
    (-1.0, 1.0, 1.0, 0.0, 128), (0.0, 4096.0, 1.0, 0.0, 4096), (1e6, 1e6 + 1, 1.0, 0.0, 4096),
    (-0.5, 0.7, -0.25, 1.0, 33), (1e-30, 3e30, 1.0, 0.0, 4096), (0.0, 255.0, 0.1, -7.0, 255),
    (3.0, 3.0000005, 1.0, 0.0, 10), (0.0, 1.0, 1e-4, 0.0, 100_000),
]  # fmt: skip


@pytest.mark.parametrize("ends", RANGES)
@pytest.mark.parametrize("nodata", [np.nan, 7.0])
def test_floats_in_bins_are_those_of_the_float64_edges(rng, ends, nodata):
    """Also for numbers that lie on an edge, where rounding would put them beside it."""
    low, high, scale, offset, count = ends
    edges = np.linspace(low, high, count + 1)
    near = np.float32((edges[:: max(1, count // 500)] - offset) / scale)
    around = [np.nextafter(near, np.float32(way * np.inf)) for way in (1, -1)]
    stored = (rng.uniform(low - 0.1, high + 0.1, 5000) - offset) / scale
    special = [np.nan, np.inf, -np.inf, 7.0, 0.0, -0.0]
    values = np.concatenate([near, *around, stored, special]).astype(np.float32)
    values = np.resize(values, (len(values) // 97, 97))
    bins = measuring.Bins.of(edges, scale, offset)
    finite = values[np.isfinite(values) & (values != np.float32(nodata))]
    wanted = np.histogram(finite.astype(np.float64) * scale + offset, edges)[0]
    for view in (values, np.repeat(values, 3, axis=1)[:, ::3], values[::2]):
        found = np.zeros((2, count), np.int64)
        for add, row in zip(forms(measuring.bin_counts), found, strict=True):
            add(view, nodata, bins, row)
        np.testing.assert_array_equal(found[0], found[1])
        if view.shape == values.shape:
            np.testing.assert_array_equal(found[0], wanted)


@pytest.mark.parametrize("nodata", [np.nan, 3.5, 0.0])
@pytest.mark.parametrize("what", ["some", "none", "one", "far"])
def test_moments_of_floats(rng, nodata, what):
    values = rng.normal(1e4 if what == "far" else 0, 9, (37, 211)).astype("f4")
    values[::3, ::5], values[1::3, ::7] = np.nan, nodata if nodata == nodata else np.inf
    values[0, :2] = [-0.0, 0.0]
    if what == "none":
        values[:] = np.nan
    elif what == "one":
        values[:], values[5, 6] = nodata, -2.5
    kept = values[np.isfinite(values) & (values != np.float32(nodata))].astype(float)
    for view in (values, values[:, ::-1], values.T):
        for extremes, spread in zip(forms(measuring.extremes), forms(measuring.spread)):
            found = spread(view, nodata)
            assert extremes(view, nodata) == found[:3]
            assert found.valid == kept.size
            if kept.size:
                assert found[1:3] == (kept.min(), kept.max())
                assert found.mean == pytest.approx(kept.mean(), rel=1e-12, abs=1e-12)
                wanted = kept.var() * kept.size
                assert found.squares == pytest.approx(wanted, rel=1e-9, abs=1e-6)


@pytest.mark.parametrize("nodata", [np.nan, 0.0])
def test_counting_bits(rng, nodata):
    values = np.concatenate([rng.normal(0, 9, 5000), [np.nan, np.inf, 0.0, -0.0]]).astype("f4")
    values = values.reshape(4, -1)[:, :1201]
    bits = values.view(np.uint32) if values.flags.c_contiguous else values.copy().view(np.uint32)
    slots = np.zeros(65536, np.uint8)
    slots[bits[0, 0] >> 16], slots[bits[0, 1] >> 16], slots[0] = 1, 2, 3
    patterns = np.where(values == np.float32(nodata), 0xFFFF, bits >> 16)
    for top in forms(counting.count_top):
        counts = np.zeros(65536, np.int64)
        top(values, nodata, counts)
        np.testing.assert_array_equal(counts, np.bincount(patterns.ravel(), minlength=65536))
    for low in forms(counting.count_low):
        counts = np.zeros((3, 65536), np.int64)
        low(values, nodata, slots, counts)
        for row in range(3):
            chosen = bits[(slots[bits >> 16] == row + 1) & (values != np.float32(nodata))] & 0xFFFF
            np.testing.assert_array_equal(counts[row], np.bincount(chosen, minlength=65536))


def test_many_small_jobs_come_to_load_the_loop(monkeypatch):
    """What the loops would have saved is remembered, and pays for loading them."""
    monkeypatch.setattr(choice, "_loaded", False)
    monkeypatch.setattr(choice, "_forgone", 0.0)
    twin = choice.Twin(max, "builtins", "min", saving=0.1)
    chosen = [twin.choose(3_000_000) for _ in range(5)]
    assert chosen == [max, max, max, min, min]


def test_where_loops_are_loaded_each_kernel_pays_for_its_own(monkeypatch):
    monkeypatch.setattr(choice, "_loaded", True)
    warm, twin = (choice.Twin(max, "builtins", "min", saving=0.01) for _ in range(2))
    warm.loop()
    with choice.weighed_alone():
        chosen = [(warm.choose(1), twin.choose(200_000))[1] for _ in range(4)]
    assert chosen == [max, max, min, min]


def test_blocks_of_one_job_weigh_as_much_as_the_job(monkeypatch):
    monkeypatch.setattr(choice, "_loaded", False)
    monkeypatch.setattr(choice, "_forgone", 0.0)
    twin = choice.Twin(max, "builtins", "min", saving=0.1)
    assert [twin.choose(4_000_000, 1_000_000) for _ in range(8)] == [max] * 8
    assert choice._forgone == pytest.approx(0.8)
    assert twin.choose(4_000_000, 1_000_000) is min  # the third job of that size
    monkeypatch.setattr(choice, "_forgone", 0.0)
    monkeypatch.setattr(choice, "_loaded", False)
    assert choice.Twin(max, "builtins", "min", saving=0.1).choose(11_000_000, 10) is min


@pytest.mark.parametrize("dtype", ["u4", "i4", "f4", "u8", "i8", "f8"])
def test_ordered_bits_keep_order_and_come_back(rng, dtype):
    values = np.sort(rng.integers(-(2**30), 2**30, 500).astype(dtype))
    bits = counting.ordered_bits(values)
    assert (bits[1:] >= bits[:-1]).all()
    np.testing.assert_array_equal(counting.from_ordered_bits(bits, values.dtype), values)


@pytest.mark.parametrize("dtype", ["u1", "u2", "u4", "u8"])
@pytest.mark.parametrize("samples", [1, 3, 4])
def test_predictor_2_is_undone(rng, dtype, samples):
    block = rng.integers(0, np.iinfo(dtype).max, (9, 21, samples), dtype=dtype)
    coded = np.frombuffer(predicted(block, 2, "<"), dtype).reshape(block.shape)
    np.testing.assert_array_equal(prediction.differences(block), coded)
    for window, wanted in (
        ((slice(0, 9), slice(0, 21)), list(range(samples))),
        ((slice(2, 7), slice(5, 20)), [samples - 1]),
    ):
        for undo in forms(prediction.undo_differences):
            shape = [part.stop - part.start for part in window]
            planes = np.zeros((len(wanted), *shape), dtype)
            undo(coded.copy(), window, wanted, planes)
            for plane, sample in zip(planes, wanted):
                np.testing.assert_array_equal(plane, block[(*window, sample)])


@pytest.mark.parametrize("dtype", ["f2", "f4", "f8"])
def test_predictor_3_is_undone(rng, dtype):
    block = rng.normal(0, 1, (5, 11, 3)).astype(dtype)
    coded = np.frombuffer(predicted(block, 3, "<"), np.uint8).reshape(5, -1)
    np.testing.assert_array_equal(prediction.float_differences(block), coded)
    back = prediction.undo_float_differences(coded.copy(), 3, np.dtype(dtype))
    np.testing.assert_array_equal(back.reshape(block.shape), block)


def test_the_chooser_pays_for_numba_only_when_it_is_worth_it():
    code = (
        "import sys; from spectrane.kernels import tables;"
        "small = tables.words.choose(10**6); assert small is tables.words.reference;"
        "assert 'numba' not in sys.modules;"
        "assert tables.words.choose(10**9) is not small; assert 'numba' in sys.modules;"
        "assert tables.words.choose(10) is not small"  # once compiled, it is always taken
    )
    subprocess.run([sys.executable, "-c", code], check=True)
    with pytest.raises(ValueError, match="expected None, 'numpy' or 'loop'"):
        choice.force("fast")


def test_without_a_cache_folder_it_says_so_once_and_goes_on(tmp_path):
    """A package folder that cannot be written, and no home: compiled, not kept, told once."""
    code = (
        "import warnings, numpy as np\n"
        "import numba.core.caching as caching\n"
        "caching.CacheImpl._locator_classes = []\n"
        "with warnings.catch_warnings(record=True) as told:\n"
        "    warnings.simplefilter('always')\n"
        "    from spectrane.kernels import counting\n"
        "    counts = np.zeros(256, np.int64)\n"
        "    counting.count_indices.loop()(np.zeros(9, np.uint8), counts)\n"
        "assert counts[0] == 9\n"
        "mine = [t for t in told if 'NUMBA_CACHE_DIR' in str(t.message)]\n"
        "assert len(mine) == 1, told\n"
    )
    subprocess.run([sys.executable, "-c", code], check=True, cwd=tmp_path, env=dict(os.environ))
