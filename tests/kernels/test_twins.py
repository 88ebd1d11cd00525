"""Each kernel's two forms against each other and against the definition."""

from __future__ import annotations

import os
import subprocess
import sys
from dataclasses import replace

import numpy as np
import pytest
from tests.tiff_builder import predicted

from spectrane.kernels import choice, counting, prediction, steps, tables
from spectrane.kernels.levels import level, position


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
    "linear": lambda v: position(v, -3.7, 812.5),
    "inverted": lambda v: 1 - position(v, -3.7, 812.5),
    "low above high": lambda v: position(v, 812.5, -3.7),
    "steep log": lambda v: np.log10(1 + 999 * position(v, 1e-3, 5e4)) / 3,
    "root": lambda v: np.sqrt(position(v, 0, 1e30)),
    "one value": lambda v: position(v, 5.0, 5.0),
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


def test_counting_floats_in_bins(rng):
    values = rng.normal(0, 1, 70001).astype(np.float32)
    values[:8] = [
        np.nan,
        np.inf,
        -np.inf,
        -1,
        1,
        np.nextafter(np.float32(1), np.float32(2)),
        0,
        0.5,
    ]
    tables_made = []
    for add in forms(counting.count_bins):
        counts = np.zeros(128, np.int64)
        add(values, -1.0, 64.0, counts)
        tables_made.append(counts)
    np.testing.assert_array_equal(*tables_made)
    place = (values + np.float32(1)) * np.float32(64)
    place = np.minimum(place[(place >= 0) & (place <= 128)].astype(int), 127)
    np.testing.assert_array_equal(tables_made[0], np.bincount(place, minlength=128))


def test_counting_bits(rng):
    values = np.concatenate([rng.normal(0, 9, 5000), [np.nan, np.inf, 0.0, -0.0]]).astype("f4")
    bits = values.view(np.uint32)
    slots = np.zeros(65536, np.uint8)
    slots[bits[0] >> 16], slots[bits[1] >> 16] = 1, 2
    for top in forms(counting.count_top):
        counts = np.zeros(65536, np.int64)
        top(values, counts)
        np.testing.assert_array_equal(counts, np.bincount(bits >> 16, minlength=65536))
    for low in forms(counting.count_low):
        counts = np.zeros((2, 65536), np.int64)
        low(values, slots, counts)
        for row in (0, 1):
            chosen = bits[slots[bits >> 16] == row + 1] & 0xFFFF
            np.testing.assert_array_equal(counts[row], np.bincount(chosen, minlength=65536))


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
