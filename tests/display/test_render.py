"""Rendering, formula by formula."""

from __future__ import annotations

import warnings

import numpy as np
import pytest
from PIL import Image
from tests.conftest import DTYPES, natural, values_of

import spectrane as sp
from spectrane.display import limits
from spectrane.display.render import draw_raster
from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.errors import (
    BandError,
    DataWarning,
    ExistingFile,
    FormatError,
    LookError,
    ResourceError,
)
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.view import View
from spectrane.spatial.described import with_nodata


def shade(values, low, high, invert=False, top=255):
    """Return the level of physical values by the definition, in float64."""
    u = np.clip((values - low) / (high - low), 0, 1)
    return np.floor((1 - u if invert else u) * top + 0.5)


LOOKS = {
    "grey": Look(channels=1, limits="minmax"),
    "stretched": Look(channels=(3, 1, 2), limits="percentile:2,98"),
    "deviation": Look(channels=(1, 2, 3), limits="deviation:1.5", invert=True),
    "fixed and reversed": Look(channels=(2, 2, 1), limits=["fixed:90,20", (0, 50), "minmax"]),
    "shared": Look(channels=(1, 2, 3), limits="percentile:5,90", shared=True),
    "alpha": Look(channels=(1, 2, 3, 2), limits="minmax"),
}


def wanted_limits(look, kind, values, pooled):
    values = pooled if look.shared else values
    if kind.name == "minmax":
        return values.min(), values.max()
    if kind.name == "percentile":
        return tuple(np.percentile(values, (kind.low, kind.high)))
    if kind.name == "deviation":
        return values.mean() - kind.n * values.std(), values.mean() + kind.n * values.std()
    return kind.low, kind.high


@pytest.mark.parametrize("name", LOOKS)
@pytest.mark.parametrize("dtype", [*DTYPES, "?"])
def test_levels_follow_the_definition(rng, form, dtype, name):
    look = LOOKS[name]
    array = rng.integers(0, 2, (3, 80, 70)) > 0 if dtype == "?" else (
        rng.normal(60, 25, (3, 80, 70)).clip(0, 120).astype(dtype))  # fmt: skip
    if array.dtype.kind == "f":
        array[0, 5:15, :30] = np.nan
    scale, offset = (1.0, 0.0) if dtype == "?" else (0.5, 3.0)
    bands = [
        Band(n, scale=scale, offset=offset, nodata=60 if dtype != "?" else None) for n in "abc"
    ]
    picture = render_quietly(ArraySource(array, bands=bands), look)
    physical = array.astype(np.float64) * scale + offset
    valid = ~np.isnan(physical) if dtype == "?" else (array != 60) & ~np.isnan(physical)
    shown = [b - 1 for b in look.channels]
    hidden = ~valid[shown].all(0)
    if name == "alpha":  # what is clear has no colour
        hidden |= picture.rgba[..., 3] == 0
    pooled = np.concatenate([physical[b][valid[b]] for b in shown[:3]])
    kinds = look.limits * 3 if len(look.limits) == 1 else look.limits
    for channel, band in enumerate(shown[:3]):
        low, high = wanted_limits(look, kinds[channel], physical[band][valid[band]], pooled)
        one = picture.scales[channel]
        assert (one.low, one.high) == pytest.approx((low, high), rel=1e-9, abs=1e-9)
        levels = shade(physical[band], one.low, one.high, look.invert)
        off = np.abs(picture.rgba[..., channel].astype(int) - levels)[~hidden]
        assert off.max(initial=0) <= (
            1 if array.dtype.kind == "f" and array.dtype.itemsize == 8 else 0
        )
        fine = shade(physical[band], one.low, one.high, look.invert, 65535)
        deep = ~hidden & (picture.rgba16[..., 3] > 0)
        np.testing.assert_array_equal(picture.rgba16[..., channel][deep], fine[deep])
    assert not picture.rgba[hidden].any()
    assert not picture.rgba16[hidden & (picture.rgba16[..., 3] == 0)].any()
    if name != "alpha":
        assert (picture.rgba[..., 3][~hidden] == 255).all()


@pytest.mark.parametrize(
    ("dtype", "auto", "kind"),
    [("u1", (0, 255), "type"), ("?", (0, 1), "type"), ("i1", (-128, 127), "type"),
     ("u2", None, "percentile:1,99"), ("f4", None, "percentile:1,99")],
)  # fmt: skip
def test_auto_limits(rng, dtype, auto, kind):
    array = (natural(rng, (1, 60, 60), "u1") % (2 if dtype == "?" else 120)).astype(dtype)
    scale = render_quietly(ArraySource(array)).scales[0]
    assert scale.limits == kind
    wanted = auto or tuple(np.percentile(array.astype(float), [1, 99]))
    assert (scale.low, scale.high) == pytest.approx(wanted)


def render_quietly(*args, **kwargs):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", DataWarning)
        return draw_raster(*args, **kwargs)


def test_type_limits_of_a_scaled_band_are_physical(rng):
    source = ArraySource(natural(rng, (1, 9, 9), "i2"), bands=[Band("t", scale=0.01, offset=1)])
    scale = render_quietly(source, Look(limits="type")).scales[0]
    assert (scale.low, scale.high) == pytest.approx((-326.68 + 0.0 + 0.0, 328.67 + 0.0))


def test_low_equals_high_tells_below_at_and_above():
    source = ArraySource(np.array([[[1, 2, 3]]], np.float32))
    with pytest.warns(DataWarning, match="are both 2"):
        picture = draw_raster(source, Look(limits=(2, 2)))
    assert picture.rgba[0, :, 0].tolist() == [0, 128, 255]


def test_infinity_is_drawn_at_the_end_it_lies_beyond():
    source = ArraySource(np.array([[[-np.inf, 0, 10, np.inf, np.nan]]], np.float32))
    picture = draw_raster(source, Look(limits="minmax"))
    assert picture.rgba[0, :, 0].tolist() == [0, 0, 255, 255, 0]
    assert picture.rgba[0, :, 3].tolist() == [255, 255, 255, 255, 0]
    assert (picture.scales[0].low, picture.scales[0].high) == (0, 10)


@pytest.mark.parametrize("dtype", ["u1", "f4", "i4"])
def test_any_or_all(dtype, form):
    array = np.array([[[0, 0, 9]], [[0, 7, 9]], [[0, 9, 5]]], dtype)
    source = with_nodata(ArraySource(array), 0)
    some = Look(channels=(1, 2, 3), limits=(0, 10), nodata_color="#102030")
    assert draw_raster(source, some).rgba[0, :2].tolist() == [[16, 32, 48, 255]] * 2
    every = Look(channels=(1, 2, 3), limits=(0, 10), nodata_when="all")
    assert draw_raster(source, every).rgba[0].tolist() == [
        [0, 0, 0, 0], [0, 179, 230, 255], [230, 230, 128, 255]]  # fmt: skip
    assert draw_raster(
        with_nodata(source, 0, "all"), Look(channels=(1, 2, 3), limits=(0, 10))
    ).rgba[0, 1].tolist() == [0, 179, 230, 255]


def test_a_mask_hides_and_alpha_multiplies():
    array = np.full((1, 1, 4), 100, np.uint8)
    alpha = np.array([[0, 51, 255, 255]], np.uint8)
    mask = np.array([[[True, True, True, False]]])
    look = Look(limits=(0, 200))
    picture = draw_raster(ArraySource(array, mask=mask, alpha=alpha), look)
    assert picture.rgba[0, :, 3].tolist() == [0, 51, 255, 0]
    assert picture.rgba16[0, :, 3].tolist() == [0, 51 * 257, 65535, 0]
    premultiplied = ArraySource(np.array([[[20, 100]]], np.uint8), alpha=alpha[:, 1:3])
    premultiplied.alpha = "premultiplied"
    assert draw_raster(premultiplied, look).rgba[0, :, 0].tolist() == [128, 128]


ROLES = [Band("B1", "blue"), Band("B2", "green"), Band("B3", "red"), Band("B4", "nir")]


@pytest.mark.parametrize(
    ("bands", "dtype", "channels", "names"),
    [
        (ROLES, "u2", None, ["B3", "B2", "B1"]),
        (ROLES, "u2", "infrared", ["B4", "B3", "B2"]),
        (ROLES[:2], "u2", None, ["B1"]),
        (None, "u1", None, ["band 1", "band 2", "band 3"]),
        (None, "u2", None, ["band 1"]),
        (ROLES, "u2", ("B4", "green", 1), ["B4", "B2", "B1"]),
    ],
)
def test_channels_never_reorder_the_data(rng, bands, dtype, channels, names):
    array = natural(rng, (len(bands) if bands else 3, 20, 20), dtype)
    before = array.copy()
    picture = render_quietly(ArraySource(array, bands=bands), Look(channels=channels))
    assert [scale.band for scale in picture.scales] == names
    np.testing.assert_array_equal(array, before)


def test_missing_roles_are_named(rng):
    with pytest.raises(BandError, match="no band has the role swir22"):
        draw_raster(
            ArraySource(natural(rng, (4, 9, 9), "u2"), bands=ROLES), Look(channels="shortwave")
        )


CLASSES = {1: ("#ff0000", "one"), 2: ("#00ff00", "two"), 5: ("#0000ff80", "five")}


@pytest.mark.parametrize("dtype", ["u1", "i2", "f4", "i8"])
def test_classes_are_drawn_in_their_colours(dtype):
    array = np.array([[[0, 1, 2, 5, 9]]], dtype)
    source = ArraySource(array, bands=[Band("kind", nodata=0)], look=Look(classes=CLASSES))
    with pytest.warns(DataWarning, match="1 pixels are of no class"):
        picture = draw_raster(source)
    assert picture.rgba[0].tolist() == [
        [0, 0, 0, 0], [255, 0, 0, 255], [0, 255, 0, 255], [0, 0, 255, 128],
        [0, 0, 0, 0]]  # fmt: skip
    assert picture.rgba16[0, 1].tolist() == [65535, 0, 0, 65535]
    # Limits asked for by name show the numbers, not the classes.
    assert draw_raster(source, Look(limits=(0, 9))).rgba[0, 4, :3].tolist() == [255] * 3


def test_categories_are_never_averaged(rng):
    array = rng.choice(np.array([1, 5], np.uint8), (1, 40, 40))
    source = ArraySource(array, look=Look(classes=CLASSES))
    colours = {tuple(p) for p in draw_raster(source, size=(13, 13)).rgba.reshape(-1, 4).tolist()}
    assert colours == {(255, 0, 0, 255), (0, 0, 255, 128)}


@pytest.mark.parametrize(
    ("array", "match"),
    [
        (np.full((3, 9, 9), 700, "u2"), r"nearly black.*percentile:2,98 \(band 1 700 to 700"),
        (np.full((3, 9, 9), 65000, "u2"), "nearly white"),
        (np.full((3, 9, 9), 30000, "u2") + np.arange(9, dtype="u2"), "flat.*use 0%"),
    ],
)
def test_an_unstretched_picture_is_warned_of(array, match):
    with pytest.warns(DataWarning, match=match):
        draw_raster(ArraySource(array), Look(channels=(1, 2, 3), limits="type"))


def test_a_good_picture_draws_no_warning(rng):
    array = rng.integers(0, 65536, (3, 60, 60)).astype("u2")
    for kind in ("type", "auto", "percentile:2,98"):
        draw_raster(ArraySource(array), Look(channels=(1, 2, 3), limits=kind))


@pytest.mark.parametrize("dtype", ["u1", "u2", "f4"])
def test_nothing_valid_is_transparent_and_told(dtype):
    source = with_nodata(ArraySource(np.zeros((1, 9, 9), dtype)), 0)
    with pytest.warns(DataWarning, match="no valid pixel in the area shown"):
        picture = draw_raster(source)
    assert not picture.rgba.any()


def test_a_view_is_the_same_part_of_the_whole(rng, utm):
    source = ArraySource(natural(rng, (3, 70, 90), "u2"), grid=utm)
    look = Look(channels=(1, 2, 3), limits="percentile:2,98")
    everything = draw_raster(source, look)
    part = draw_raster(source, look, view=View(rows=(10, 40), columns=(20, 80)))
    np.testing.assert_array_equal(part.rgba, everything.rgba[10:40, 20:80])
    bounds = (480200, 7359600, 480800, 7359900)
    assert draw_raster(source, look, view=View(bounds=bounds)).grid == part.grid
    assert part.grid.bounds == bounds
    seen = draw_raster(source, Look(channels=1, limits="minmax", limits_from="view"),
                  view=View(rows=(0, 5)))  # fmt: skip
    rows = values_of(source)[0, :5]
    assert (seen.scales[0].low, seen.scales[0].high) == (rows.min(), rows.max())


@pytest.mark.parametrize(("dx", "dy"), [(10, -10), (10, 10), (-10, -10), (-10, 10)])
def test_pictures_are_upright(rng, dx, dy):
    array = natural(rng, (1, 8, 9), "u1")
    grid = Grid((8, 9), ((dx, 0, 500), (0, dy, 900), (0, 0, 1)), None, True, True)
    picture = draw_raster(ArraySource(array, grid=grid), Look(limits=(0, 255)))
    assert picture.grid.affine[0][0] > 0 > picture.grid.affine[1][1]
    for row, column in ((0, 0), (7, 8), (2, 5)):
        x, y = picture.grid.center(row=row, column=column)
        at = grid.locate(x=x, y=y)
        assert picture.rgba[row, column, 0] == array[0][at]
        assert picture.rgba16[row, column, 0] == array[0][at].astype(int) * 257


def test_sizes(rng):
    source = ArraySource(natural(rng, (1, 100, 200), "u1"))
    assert render_quietly(source, size=(50, 100)).rgba.shape == (50, 100, 4)
    assert render_quietly(source, size=(800, 1280)).rgba.shape == (640, 1280, 4)
    enlarged = render_quietly(source, Look(limits=(0, 255)), size=(300, 600))
    np.testing.assert_array_equal(enlarged.rgba[1::3, 1::3, 0], values_of(source)[0])
    shrunk = render_quietly(source, Look(limits=(0, 255)), size=(50, 100))
    means = values_of(source)[0].reshape(50, 2, 100, 2).mean((1, 3))
    np.testing.assert_array_equal(shrunk.rgba[..., 0], shade(means, 0, 255))


def test_limits_of_large_rasters_come_from_a_part_and_say_so(rng, monkeypatch):
    monkeypatch.setattr(limits, "MOST_EXACT", 10_000)
    monkeypatch.setattr(limits, "ENOUGH", 5_000)
    source = ArraySource(rng.normal(100, 9, (1, 300, 300)).astype("f4"))
    source.block_shape = (32, 32)
    about = draw_raster(source, Look(limits="percentile:2,98")).scales[0]
    exact = draw_raster(source, Look(limits="percentile:2,98", exact=True)).scales[0]
    assert (about.exact, exact.exact) == (False, True)
    assert (about.low, about.high) == pytest.approx((exact.low, exact.high), rel=0.02)
    assert "about" in str(about)
    assert (exact.low, exact.high) == pytest.approx(
        tuple(np.percentile(values_of(source), [2, 98]))
    )


@pytest.mark.parametrize(
    ("look", "kind", "match"),
    [
        (Look(channels=1, limits=["auto", "auto", "auto"]), LookError, "3 given for 1 channels"),
        (
            Look(channels=(1, 2, 3), limits=["auto", "type", "auto"], shared=True),
            LookError,
            "shared",
        ),
        (Look(channels=(1, 2, 9)), BandError, "no band 9"),
    ],
)
def test_looks_that_do_not_fit(rng, look, kind, match):
    with pytest.raises(kind, match=match):
        draw_raster(ArraySource(natural(rng, (3, 9, 9), "u2")), look)


def test_a_picture_that_no_memory_holds_is_refused(rng):
    with pytest.raises(ResourceError):
        draw_raster(ArraySource(natural(rng, (1, 9, 9), "u2")), size=(10**5, 10**5))


@pytest.mark.parametrize("bits", [8, 16])
def test_a_saved_picture_says_what_it_is(tmp_path, rng, utm, bits):
    source = ArraySource(natural(rng, (3, 70, 90), "u2"), grid=utm, bands=ROLES[:3])
    source.name = "/somewhere/höhe.tif"
    picture = draw_raster(source, Look(limits="percentile:2,98"))
    path = tmp_path / "a.png"
    picture.save(path, bits=bits)
    data = path.read_bytes()
    with Image.open(path) as seen:
        if bits == 8:  # Pillow cuts 16 bits down to 8
            np.testing.assert_array_equal(np.asarray(seen), picture.rgba)
        said = seen.text["Description"]
    assert data[24] == bits
    for part in ("Display picture, not data", "Source: höhe.tif", "red = B3", "percentile:2,98",
                 "EPSG:32727"):  # fmt: skip
        assert part in said
    assert "somewhere" not in said
    assert picture._repr_png_().startswith(b"\x89PNG")
    with pytest.raises(ExistingFile):
        picture.save(path)
    with pytest.raises(FormatError, match=r"written as \.png"):
        picture.save(tmp_path / "a.jpg")


def test_16_bit_pictures_hold_16_bits(tmp_path, rng):
    import zlib

    picture = draw_raster(ArraySource(rng.random((1, 3, 4)).astype("f4")), Look(limits=(0, 1)))
    picture.save(tmp_path / "a.png", bits=16)
    data = (tmp_path / "a.png").read_bytes()
    start = data.index(b"IDAT")
    length = int.from_bytes(data[start - 4 : start], "big")
    rows = np.frombuffer(zlib.decompress(data[start + 4 : start + 4 + length]), np.uint8)
    lines = np.cumsum(rows.reshape(3, -1)[:, 1:], axis=0, dtype=np.uint8)  # the "up" filter
    np.testing.assert_array_equal(lines.view(">u2").reshape(3, 4, 4), picture.rgba16)


def test_colours_beyond_the_limits_do_not_follow_a_falling_curve():
    ends = sp.Colormap("ends", sp.colormaps["kiln"].entries[::40], under="#0000ff", over="#ff00ff")
    look = sp.Look(limits=(0, 255), curve="points:0.2/1,0.8/0", colormap=ends)
    values = np.array([[-5, 0, 60, 120, 180, 254.9, 255, 256]], "f4")
    picture = sp.render(sp.from_array(values), look)
    told = [sp.model.colors.parse_color(picture.legend().color(float(v))) for v in values[0]]
    assert [tuple(one) for one in picture.rgba[0].tolist()] == told
    assert told[5] == tuple(ends.entries[0].tolist())
