"""Local contrast, sharpening, brightness, contrast, saturation: by definition, and in order."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.display.adjusting import adjusted, blurred, local_contrast, sharpened


@pytest.fixture
def plane(rng):
    y, x = np.mgrid[:60, :80] / 20.0
    return (0.5 + 0.3 * np.sin(x) * np.cos(y) + rng.normal(0, 0.03, (60, 80))).clip(0, 1)


def everywhere(plane):
    return np.ones(plane.shape, bool)


def test_the_blur_is_a_gaussian(plane):
    sigma, row, column = 1.5, 30, 40
    y, x = np.mgrid[:60, :80]
    weights = np.exp(-0.5 * ((y - row) ** 2 + (x - column) ** 2) / sigma**2)
    weights[(abs(y - row) > 6) | (abs(x - column) > 6)] = 0
    wanted = (weights * plane).sum() / weights.sum()
    assert blurred(plane, sigma)[row, column] == pytest.approx(wanted, abs=1e-9)


def test_sharpening_is_its_definition_and_never_rings_into_no_data(plane):
    valid = everywhere(plane)
    valid[20:40, 30:50] = False
    got = sharpened(np.where(valid, plane, 0), valid, 2.0, 1.5)
    weight = np.maximum(blurred(valid.astype(float), 2.0), 1e-12)
    soft = blurred(np.where(valid, plane, 0), 2.0) / weight
    wanted = np.clip(plane + 1.5 * (plane - soft), 0, 1)
    np.testing.assert_allclose(got[valid], wanted[valid], atol=1e-9)
    flat = np.full(plane.shape, 0.4)
    np.testing.assert_allclose(sharpened(np.where(valid, flat, 0), valid, 2.0, 3.0)[valid], 0.4)


@pytest.mark.parametrize(
    ("fields", "wanted"),
    [
        ({"brightness": 0.2}, lambda t: t + 0.2),
        ({"contrast": 2.0}, lambda t: (t - 0.5) * 2 + 0.5),
        ({"brightness": -0.1, "contrast": 0.5}, lambda t: (t - 0.5) * 0.5 + 0.5 - 0.1),
    ],
)
def test_brightness_and_contrast(plane, fields, wanted):
    (got,) = adjusted([plane], everywhere(plane), sp.Look(**fields))
    np.testing.assert_allclose(got, np.clip(wanted(plane), 0, 1), atol=1e-12)


def test_saturation(plane):
    planes = [plane, plane * 0.5, 1 - plane]
    grey = 0.2126 * planes[0] + 0.7152 * planes[1] + 0.0722 * planes[2]
    for amount in (0.0, 0.5, 2.0):
        got = adjusted(planes, everywhere(plane), sp.Look(saturation=amount))
        for have, one in zip(got, planes, strict=True):
            np.testing.assert_allclose(have, np.clip(grey + amount * (one - grey), 0, 1))


def test_local_contrast_spreads_what_is_flat_and_leaves_no_data_out(rng):
    plane = 0.5 + rng.uniform(-0.02, 0.02, (160, 160))
    plane[:, 80:] += 0.3
    valid = everywhere(plane)
    valid[:40] = False
    done = local_contrast(np.where(valid, plane, 0), valid, 4.0)
    for half in (done[40:, :60], done[40:, 100:]):
        assert half.std() > 3 * plane[40:, :60].std()
    assert ((done >= 0) & (done <= 1)).all()
    mild = local_contrast(np.where(valid, plane, 0), valid, 1.0)
    assert mild[40:, :60].std() < done[40:, :60].std()
    again = local_contrast(np.where(valid, plane, 0.9), valid, 4.0)
    np.testing.assert_array_equal(done[valid], again[valid])


@pytest.mark.parametrize("channels", [1, 3])
def test_every_output_keeps_the_chain(rng, channels):
    array = rng.integers(0, 60000, (channels, 40, 50)).astype("u2")
    array[:, :5] = 0
    look = sp.Look(limits=(0, 60000), sharpen=(1.0, 0.5), brightness=0.05, contrast=1.1,
                   channels=tuple(range(1, channels + 1)), saturation=1.2)  # fmt: skip
    picture = sp.render(sp.from_array(array, nodata=0), look)
    assert (picture.rgba[:5] == 0).all()
    shown = picture.rgba[5:].astype(int), picture.rgba16[5:].astype(int)
    assert np.abs(shown[0] * 257 - shown[1]).max() <= 129
    plain = sp.render(sp.from_array(array, nodata=0),
                      sp.Look(limits=(0, 60000), channels=look.channels))  # fmt: skip
    assert (plain.rgba != picture.rgba).any()


def test_a_colour_map_comes_after_the_adjustments(rng):
    array = rng.integers(0, 256, (30, 30)).astype("u1")
    look = sp.Look(limits="type", colormap="kiln", brightness=0.5)
    picture = sp.render(sp.from_array(array), look)
    t = np.clip(array / 255 + 0.5, 0, 1)
    wanted = sp.colormaps["kiln"].entries[np.minimum(np.floor(t * 256), 255).astype(int)]
    np.testing.assert_array_equal(picture.rgba, wanted)


ODD = {
    "one pixel": np.full((1, 1), 5, "u1"),
    "bool": np.array([[True, False]]),
    "beyond 2^53": np.array([[2**53 + 1, 2**60]], "i8"),
    "float16": np.array([[0.5, 2.0]], "f2"),
    "all nan": np.full((3, 3), np.nan, "f4"),
    "infinities": np.array([[np.inf, -np.inf, 1.0, 2.0]], "f4"),
    "300 bands": np.arange(300 * 4).reshape(300, 2, 2).astype("u2"),
}


@pytest.mark.filterwarnings("ignore::spectrane.DataWarning")
@pytest.mark.parametrize("name", ODD)
@pytest.mark.parametrize(
    "fields",
    [{}, {"limits": "percentile:2,98"}, {"limits": "symmetric"}, {"curve": "equalise"},
     {"colormap": "kiln"}, {"sharpen": (1, 1), "local_contrast": 2.0}, {"limits": (9, 1)},
     {"limits": (5, 5)}],
)  # fmt: skip
def test_odd_rasters_give_a_picture(name, fields):
    fields = {"limits": "minmax"} | fields if "curve" in fields else fields
    picture = sp.render(sp.from_array(ODD[name]), sp.Look(channels=1, **fields))
    assert picture.rgba.shape[2] == 4
    assert picture.rgba16.shape == picture.rgba.shape
    if name == "all nan":
        assert (picture.rgba[..., 3] == 0).all()
