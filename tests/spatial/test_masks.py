"""Masks: each test against NumPy, each area against one labelling of the whole."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import ndimage
from tests.conftest import values_of

from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.errors import BandError, GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.spatial import masks
from spectrane.spatial.masks import Test as Asked
from spectrane.spatial.masks import bits_test


def whole_mask(mask):
    return mask.read([0], ((0, mask.shape[0]), (0, mask.shape[1]))).values[0]


@pytest.fixture
def source(rng, utm):
    values = rng.integers(0, 1000, (2, 70, 90)).astype("u2")
    return ArraySource(values, grid=utm, bands=[Band("a", nodata=0), Band("b", scale=0.1)])


@pytest.mark.parametrize(
    ("band", "asked", "wanted"),
    [
        (0, Asked(values=(5, 700)), lambda v: (v == 5) | (v == 700)),
        (0, Asked(low=100, high=300), lambda v: (v >= 100) & (v <= 300)),
        (0, Asked(high=300), lambda v: (v > 0) & (v <= 300)),
        (1, Asked(low=50.0), lambda v: v * 0.1 >= 50.0),
        (1, Asked(values=(70.3,)), lambda v: v == 703),
        (0, bits_test("bits 3-4 = 2"), lambda v: (v > 0) & ((v >> 3 & 3) == 2)),
        (0, bits_test("bit 0 != 1"), lambda v: (v > 0) & (v % 2 == 0)),
        (0, bits_test("bits 6-9 == 1, 3"), lambda v: np.isin(v >> 6, (1, 3))),
    ],
)
def test_values_ranges_and_bits(source, band, asked, wanted):
    mask = masks.ByTest(source, band, asked)
    np.testing.assert_array_equal(whole_mask(mask), wanted(values_of(source)[band]))
    np.testing.assert_array_equal(
        mask.read([0], ((9, 20), (3, 50))).values[0], wanted(values_of(source)[band])[9:20, 3:50]
    )


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("bits 4-3 = 1", "the lower one first"),
        ("bits 3-4 = 4", "numbers up to 3"),
        ("3-4", "expected such as"),
        ("bits 60-64 = 0", "0 to 63"),
    ],
)
def test_bits_that_make_no_sense_are_refused(source, text, message):
    with pytest.raises(LookError, match=message):
        bits_test(text)
    with pytest.raises(LookError, match="16 bits to ask"):
        masks.ByTest(source, 0, bits_test("bit 20 = 1"))


def test_masks_are_combined_and_laid_on_other_grids(source, utm):
    low, odd = (
        masks.ByTest(source, 0, Asked(high=500)),
        masks.ByTest(source, 0, bits_test("bit 0 = 1")),
    )
    a, b = whole_mask(low), whole_mask(odd)
    np.testing.assert_array_equal(whole_mask(masks.JoinedMasks(low, odd, "and")), a & b)
    np.testing.assert_array_equal(whole_mask(masks.JoinedMasks(low, odd, "or")), a | b)
    np.testing.assert_array_equal(whole_mask(masks.Inverted(low)), ~a)
    coarse = ArraySource(np.arange(35 * 45).reshape(1, 35, 45) % 3 == 0, grid=utm.resized((35, 45)))
    on = masks.mask_on(coarse, source)
    np.testing.assert_array_equal(whole_mask(on), values_of(coarse)[0].repeat(2, 0).repeat(2, 1))
    with pytest.raises(BandError, match="one band"):
        masks.mask_on(source, source)
    loose = ArraySource(np.ones((1, 3, 3), bool))
    with pytest.raises(GridMismatch, match="has a place on a map and the other has none"):
        masks.mask_on(loose, source)


@pytest.mark.parametrize("by", [1, 2.5, -1, -3])
def test_growing_is_a_distance_and_windows_agree(source, by):
    mask = masks.ByTest(source, 0, Asked(high=40))
    if by < 0:
        mask = masks.Grown(mask, 3)
    plain = whole_mask(mask)
    distance = ndimage.distance_transform_edt(plain if by < 0 else ~plain)
    wanted = plain & (distance > -by) if by < 0 else distance <= by
    grown = masks.Grown(mask, by)
    np.testing.assert_array_equal(whole_mask(grown), wanted)
    np.testing.assert_array_equal(
        grown.read([0], ((20, 33), (40, 61))).values[0], wanted[20:33, 40:61]
    )


@pytest.mark.parametrize("neighbours", [4, 8])
def test_areas_are_sized_over_strips(source, neighbours):
    mask = masks.ByTest(source, 0, Asked(high=480))
    made = masks.Sized(mask, 5, 60, neighbours)
    made.strip = 8
    plain = whole_mask(mask)
    structure = np.ones((3, 3)) if neighbours == 8 else None
    labels, _ = ndimage.label(plain, structure)
    sizes = np.bincount(labels.ravel())
    wanted = plain & (sizes[labels] >= 5) & (sizes[labels] <= 60)
    np.testing.assert_array_equal(whole_mask(made), wanted)
    np.testing.assert_array_equal(
        made.read([0], ((5, 30), (11, 70))).values[0], wanted[5:30, 11:70]
    )


def test_a_mask_is_kept_as_nodata_or_alpha_and_trims(source):
    mask = masks.ByTest(source, 1, Asked(low=50.0))
    plain = whole_mask(mask)
    hidden = masks.Masked(source, mask).read([0, 1], ((0, 70), (0, 90)))
    np.testing.assert_array_equal(hidden.valid[1], plain)
    clear = masks.Masked(source, mask, "alpha").read([1], ((0, 70), (0, 90)))
    np.testing.assert_array_equal(clear.alpha, np.where(plain, 65535, 0))
    trimmed = masks.trimmed(source, 1).read([0, 1], ((0, 70), (0, 90)))
    shown = (values_of(source)[0] > 0) & (
        ndimage.distance_transform_edt(values_of(source)[0] > 0) > 1
    )
    np.testing.assert_array_equal(trimmed.shown, shown)
    with pytest.raises(LookError, match="nodata or alpha"):
        masks.Masked(source, mask, "band")


def test_a_footprint_is_where_anything_is_valid():
    values = np.array([[[0, 1], [2, 0]], [[5, 0], [0, 0]]], "u1")
    source = ArraySource(
        values, grid=Grid((2, 2)), bands=[Band("a", nodata=0), Band("b", nodata=0)]
    )
    source.nodata_when = "all"
    assert whole_mask(masks.Footprint(source)).tolist() == [[True, True], [True, False]]
