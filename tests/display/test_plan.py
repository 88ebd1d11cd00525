"""One plan: picture, probe, histogram, legend, layer, panel and tile agree, for any look."""

from __future__ import annotations

import pickle
import warnings
from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import DTYPES

import spectrane as sp
from spectrane.display.linked import linked
from spectrane.display.plan import resolve
from spectrane.display.render import draw_raster
from spectrane.engine.answers import Answers, answers
from spectrane.engine.memory import ArraySource
from spectrane.model.colors import parse_color
from spectrane.model.curves import Curve
from spectrane.model.limits import Limits
from spectrane.model.look import Look
from spectrane.pages.tile_matrices import SCHEMES
from spectrane.pages.tiles import TileDrawer
from spectrane.spatial.described import with_nodata

GRID = sp.Grid.from_corner((9, 11), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
ENDS = sp.Colormap("ends", sp.colormaps["kiln"].entries[::40], under="#0000ff", over="#ff00ff",
                   nodata="#123456")  # fmt: skip
LIMITS = ["auto", "type", "minmax", "percentile:3,90", "deviation:1.5", "symmetric", "symmetric:80",
          "window:40,50", (5, 70), (70, 5), (33, 33)]  # fmt: skip
CURVES = ["linear", "sqrt", "square", "gamma:1.7", "log", "log:3", "asinh", "asinh:0.2", "logistic",
          "equalise", "points:0/0.1,0.4/0.9,1/0.3", "points:0.2/1,0.8/0"]  # fmt: skip
CLASSES = {0: "#ff0000", 7: ("#00ff0080", "kelp"), 60: ("#0000ff", ""), 1: ("#00000000", "clear")}


@st.composite
def sources(draw):
    """Small rasters of any type, scale, no-data, mask and alpha, with or without a kept look."""
    dtype = np.dtype(draw(st.sampled_from([*DTYPES, "?"])))
    rng = np.random.default_rng(draw(st.integers(0, 2**32 - 1)))
    array = rng.integers(0, 100, (3, 9, 11)).astype(dtype)
    if dtype.kind == "f":
        array = (array + rng.random(array.shape).round(2)).astype(dtype)
        array[rng.random(array.shape) < 0.05] = draw(st.sampled_from([np.nan, np.inf, -np.inf]))
    scaled = dtype.kind != "b" and draw(st.booleans())
    scale, offset = draw(st.sampled_from([(0.5, 3.0), (-0.5, 10.0), (1e-3, 0.0)])) if scaled else (
        1.0, 0.0)  # fmt: skip
    bands = [sp.Band(name, name, scale=scale, offset=offset) for name in ("red", "green", "blue")]
    mask = rng.random(draw(st.sampled_from([(3, 9, 11), (1, 9, 11)]))) > 0.2
    alpha = rng.integers(0, 256, (9, 11)).astype("u1") if dtype == "u1" else None
    source = ArraySource(array, grid=GRID, bands=bands, mask=draw(st.sampled_from([None, mask])),
                         alpha=draw(st.sampled_from([None, alpha])))  # fmt: skip
    if source.alpha is not None:
        source.alpha = draw(st.sampled_from(["straight", "premultiplied"]))
    if dtype.kind != "b" and draw(st.booleans()):
        source = with_nodata(source, draw(st.sampled_from([7, [7, (50, 55)]])), draw(WHEN))
    if draw(st.booleans()):
        kept = [Look(limits=(10, 60)), Look(invert=True), Look(classes=CLASSES), Look(channels=2)]
        source.look = draw(st.sampled_from(kept))
    return source


WHEN = st.sampled_from([None, "any", "all"])


@st.composite
def looks(draw):
    """Pointwise looks: any field but what mixes neighbours."""
    channels = draw(st.sampled_from([None, 1, "blue", (1, 2, 3), (2, 1, 1), (1, 2, 3, 3)]))
    many = isinstance(channels, tuple)
    fields = {
        "channels": channels, "curve": draw(st.sampled_from(CURVES)), "nodata_when": draw(WHEN),
        "invert": draw(st.sampled_from([None, True, False])),
        "nodata_color": draw(st.sampled_from([None, "#102030"])),
    }  # fmt: skip
    one = st.sampled_from(LIMITS)
    fields["limits"] = draw(st.one_of(one, st.lists(one, min_size=3, max_size=3)) if many else one)
    if many:
        fields["shared"] = draw(st.booleans()) and not isinstance(fields["limits"], list)
        fields["saturation"] = draw(st.sampled_from([1.0, 0.0, 1.6]))
    elif channels is not None:
        fields["colormap"] = draw(st.sampled_from(
            [None, "kiln", "ebbflow", "chartroom reversed", "auto", ENDS]))  # fmt: skip
        fields["classes"] = draw(st.sampled_from([{}, {}, CLASSES]))
    if draw(st.booleans()):
        fields |= {"brightness": draw(st.sampled_from([0.0, 0.2, -0.3])), "contrast": 1.4}
    return Look(**fields)


@given(sources(), looks())
@settings(max_examples=70, deadline=None)
def test_everything_that_shows_agrees_with_the_picture(source, look):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", sp.DataWarning)
        picture = draw_raster(source, look)
        plan = picture.plan
        pixels = plan.read(source)
        _check_probe(source, look, picture)
        _check_levels_and_counts(source, look, picture, pixels)
        _check_single_numbers(picture, pixels)
        layer = sp.overlay([sp.Layer(source, look)], grid=GRID)
        np.testing.assert_array_equal(layer.rgba, picture.rgba)
        panel = linked([("a", source, look), ("b", source, None)], sp.View(), GRID.shape)[0]
        np.testing.assert_array_equal(panel.rgba, picture.rgba)
        again = pickle.loads(pickle.dumps(plan))
        assert (again == plan, hash(again)) == (True, hash(plan)) or _no_limits(plan)
        np.testing.assert_array_equal(again.draw(pixels), picture.rgba)
        np.testing.assert_array_equal(pickle.loads(pickle.dumps(picture)).rgba16, picture.rgba16)


def _no_limits(plan):
    return any(not np.isfinite(scale.low + scale.high) for scale in plan.scales)


def _check_probe(source, look, picture):
    """Level and colour under a point are the picture's; what is hidden has no level."""
    plan, opaque = picture.plan, source.alpha is None and len(picture.plan.bands) < 4
    points = [{"row": r, "column": c} for r in range(0, 9, 2) for c in range(0, 11, 3)]
    table = sp.probe_rows((sp.Raster(source), look), points=points)
    for number, at in enumerate(points):
        drawn = picture.rgba[at["row"], at["column"]]
        place = {
            row["band"]: row for row in table[number * len(source.bands) :][: len(source.bands)]
        }
        rows = [place[band.name] for band in plan.described]
        assert {parse_color(one["color"]) for one in rows} == {tuple(drawn)}
        if not all(one["shown"] for one in rows):
            assert {one["level"] for one in rows} == {None}
        elif plan.shadings and look.colormap is None and plan.look.colormap is None and opaque:
            wanted = dict(zip([one["band"] for one in rows], drawn.tolist(), strict=False))
            assert {one["band"]: one["level"] for one in rows} == wanted


def _check_levels_and_counts(source, look, picture, pixels):
    """Levels are the picture's bytes or entries, and the histogram counts those that are shown."""
    plan, shown = picture.plan, picture.plan.shown(pixels)
    levels = plan.levels(pixels)
    if not plan.shadings:
        return
    palette = plan.shadings[0].palette
    if palette is None and source.alpha is None:
        for channel, level in enumerate(levels):
            np.testing.assert_array_equal(picture.rgba[..., channel][shown], level[shown])
    counts = [one.levels for one in sp.shown_values(sp.Raster(source), look)]
    for level, found, ours in zip(levels, counts, plan.counts(pixels), strict=True):
        inside = level[shown & (level >= 0) & (level < plan.steps)]
        np.testing.assert_array_equal(found, np.bincount(inside, minlength=plan.steps))
        np.testing.assert_array_equal(found, ours)


def _check_single_numbers(picture, pixels):
    """A number alone has the picture's level and colour, and so has its value in the legend."""
    plan = picture.plan
    if pixels.mask is not None or pixels.alpha is not None:
        pixels = sp.model.pixels.Pixels(pixels.values, rules=pixels.rules, when=pixels.when)
    drawn = plan.draw(pixels)
    stored = pixels.values if len(plan.bands) > 1 else pixels.values[0]
    np.testing.assert_array_equal(plan.color(stored), drawn)
    levels = plan.levels(pixels)
    np.testing.assert_array_equal(plan.level(stored), levels if len(plan.bands) > 1 else levels[0])
    if len(plan.bands) > 1:
        return
    legend = plan.legend()
    band = plan.described[0]
    for r, c in ((0, 0), (3, 7), (8, 10), (5, 2)):
        if pixels.shown[r, c]:
            value = float(pixels.values[0, r, c])
            value = value if plan.classes else value * band.scale + band.offset
            assert sp.model.colors.parse_color(legend.color(value)) == tuple(drawn[r, c])


@given(sources(), looks(), st.sampled_from(list(SCHEMES)))
@settings(max_examples=15, deadline=None)
def test_a_tile_is_that_part_of_the_overlay_on_its_grid(source, look, scheme):
    from spectrane.display.layers import planned

    plan = SCHEMES[scheme]
    middle = GRID.center(row=4, column=5)
    turn = sp.Grid.from_corner((1, 1), x=0, y=0, pixel_size=1, crs=plan.crs)
    from spectrane.spatial.coordinates import transformer

    x, y = transformer(GRID, turn).transform(*middle)
    side = plan.pixel(18) * 256
    tile = (18, int((x - plan.bounds[0]) // side), int((plan.bounds[3] - y) // side))
    layers = [sp.Layer(source, look)]
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", sp.DataWarning)
        drawn = TileDrawer(tuple(planned(layers)), plan).drawn(tile)
        laid = sp.overlay(layers, grid=plan.grid(tile)).rgba
    np.testing.assert_array_equal(drawn, laid)


@pytest.mark.parametrize("adjusted", [{"sharpen": (2.0, 0.8)}, {"local_contrast": 2.0},
                                      {"sharpen": (20.0, 1.0), "brightness": 0.1}])  # fmt: skip
@pytest.mark.parametrize("channels", [1, (3, 1, 2)])
def test_looks_that_mix_neighbours_agree_view_by_view(rng, utm, adjusted, channels):
    array = rng.normal(100, 20, (3, 70, 90)).clip(1, 250).astype("u1")
    raster = sp.from_array(array, grid=utm, nodata=100)
    look = Look(channels=channels, limits=(40, 160), **adjusted)
    picture = sp.render(raster, look)
    np.testing.assert_array_equal(sp.render([sp.Layer(raster, look)]).rgba, picture.rgba)
    shown = picture.rgba[..., 3] > 0
    for k, one in enumerate(sp.shown_values(raster, look)):
        seen = picture.rgba[..., k][shown]
        np.testing.assert_array_equal(one.levels, np.bincount(seen, minlength=256))
    for row, column in ((0, 0), (35, 44), (69, 89), (20, 3)):
        table = sp.probe((raster, look), row=row, column=column).set_index("band")
        drawn = picture.rgba[row, column]
        bands = [scale.band for scale in picture.scales]
        if drawn[3]:
            assert table.loc[bands, "level"].tolist() == drawn[: len(bands)].tolist()
        assert set(table.loc[bands, "color"]) == {sp.model.colors.color_text(drawn)}


def test_a_kept_look_goes_everywhere_alike():
    """The picture, the point, the histogram and the legend of a raster with a range of its own."""
    array = np.linspace(0, 1000, 2500).reshape(50, 50).astype("f4")
    raster = sp.from_array(array).with_look(Look(limits=(100, 300)))
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", sp.DataWarning)
        picture = sp.render(raster, Look(channels=1))
        table = sp.probe((raster, Look(channels=1)), row=10, column=10)
        one = sp.shown_values(raster, Look(channels=1))[0]
    assert picture.rgba[10, 10, 0] == table["level"][0] == 133
    assert table["color"][0] == "#858585" == picture.legend().color(float(array[10, 10]))
    assert (one.low, one.high) == (100, 300)


ANCHORED = [
    (np.float32([[200, 900, 1500]]), "chartroom", "auto", None),
    (np.float32([[200, 900, 1500]]), "chartroom", "minmax", "lies at 850"),
    (np.float32([[-1, 0.5, 3]]), "ebbflow", "auto", None),
    (np.float32([[-1, 0.5, 3]]), "ebbflow", "minmax", "ebbflow, meant for 0, lies at 1"),
    (np.float32([[-1, 0.5, 3]]), "ebbflow", (3, -1), "lies at 1"),
    (np.float32([[-1, 0.5, 3]]), "ebbflow reversed", (-3, 3), None),
    (np.uint8([[1, 5, 30]]), "heathsea", "auto", None),
    (np.float32([[-1, 0.5, 3]]), "kiln", "minmax", None),
]


@pytest.mark.parametrize(("data", "name", "limits", "told"), ANCHORED)
def test_a_map_with_a_zero_of_its_own_puts_it_at_0_or_says_where(data, name, limits, told):
    look = Look(colormap=name, limits=limits)
    with warnings.catch_warnings(record=True) as caught:
        warnings.simplefilter("always")
        picture = sp.render(sp.from_array(data), look)
    said = [str(one.message) for one in caught if "meant for 0" in str(one.message)]
    assert bool(said) == bool(told)
    if told:
        assert told in said[0]
    elif sp.colormaps[name.removesuffix(" reversed")].anchor is not None:
        t = picture.plan.shadings[0].t_at(np.zeros(1))[0]
        assert t == pytest.approx(0.5)


def test_percentiles_under_a_negative_scale_are_of_physical_values(rng):
    array = rng.integers(-200, 530, (60, 70)).astype("i2")
    for dtype in ("i2", "f4", "i4"):
        bands = [sp.Band("depth", scale=-0.5)]
        raster = sp.from_array(array.astype(dtype), bands=bands)
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", sp.DataWarning)
            found = sp.render(raster, Look(limits="percentile:3,90")).scales[0]
        wanted = np.percentile(array * -0.5, (3, 90))
        assert (found.low, found.high) == pytest.approx(tuple(wanted))


@pytest.mark.filterwarnings("ignore:.*cut off")
def test_shared_limits_look_at_all_channels_in_physical_values(rng):
    """``shared`` pools what is displayed, ``symmetric`` of all of it, whatever their scales."""
    array = np.stack([rng.normal(0, s, (40, 50)) for s in (1, 9, 3)]).astype("f4")
    bands = [sp.Band("a", scale=1), sp.Band("b", scale=0.5, offset=1), sp.Band("c", scale=-1)]
    physical = np.stack([array[0], array[1] * 0.5 + 1, -array[2]])
    raster = sp.from_array(array, bands=bands)
    for rule, wanted in (("symmetric", (-np.abs(physical).max(), np.abs(physical).max())),
                         ("minmax", (physical.min(), physical.max())),
                         ("percentile:5,95", np.percentile(physical, (5, 95))),
                         ("deviation:2", (physical.mean() - 2 * physical.std(),
                                          physical.mean() + 2 * physical.std()))):  # fmt: skip
        look = Look(channels=(1, 2, 3), limits=rule, shared=True)
        found = sp.render(raster, look).scales
        assert len({(one.low, one.high) for one in found}) == 1
        assert (found[0].low, found[0].high) == pytest.approx(tuple(wanted), rel=1e-6)


@pytest.mark.parametrize("dtype", ["u4", "i8", "u2"])
def test_equalise_of_integers_uses_every_value(rng, dtype):
    array = (rng.normal(0, 1, (400, 500)) * 1e4 + 3e4).clip(0, 65535).astype(dtype)
    if dtype != "u2":
        array = array.astype(dtype) * 1000 + rng.integers(0, 1000, array.shape).astype(dtype)
    picture = sp.render(sp.from_array(array), Look(limits="minmax", curve="equalise"))
    ranks = np.searchsorted(np.sort(array, axis=None), array, side="right") / array.size
    np.testing.assert_array_equal(picture.rgba[..., 0], np.floor(ranks * 255 + 0.5))
    np.testing.assert_array_equal(picture.rgba16[..., 0], np.floor(ranks * 65535 + 0.5))


def test_answers_are_bounded_and_views_do_not_pile_up(rng):
    raster = sp.from_array(rng.integers(0, 65536, (600, 600)).astype("u2"))
    for k in range(60):
        look = Look(limits="minmax", limits_from="view", curve="equalise")
        sp.render(raster, look, view=sp.View(rows=(k, k + 500)))
    assert answers.held <= answers.limit
    small = Answers(limit=2000)
    keys = [type("Asked", (), {})() for _ in range(9)]
    assert [small.find(key, "q", lambda k=k: k) for k, key in enumerate(keys)] == list(range(9))
    assert len(small) <= 3
    assert small.find(keys[-1], "q", lambda: "anew") == 8
    assert small.find(keys[0], "q", lambda: "anew") == "anew"


def test_all_hides_only_what_every_band_hides_by_its_mask_too():
    values = np.full((3, 1, 3), 100, np.uint8)
    mask = np.ones((3, 1, 3), bool)
    mask[0, 0, 0] = mask[:, 0, 1] = False
    source = ArraySource(values, mask=mask)
    for when, shown in (("any", [0, 0, 255]), ("all", [255, 0, 255])):
        look = Look(channels=(1, 2, 3), limits=(0, 200), nodata_when=when)
        assert draw_raster(source, look).rgba[0, :, 3].tolist() == shown


@pytest.mark.parametrize(("said", "idle"), [
    ({"curve": "log", "saturation": 0.0}, "curve, saturation"), ({"invert": True}, "invert"),
    ({"sharpen": (1, 1), "brightness": 0.1, "contrast": 2, "local_contrast": 0.5},
     "local_contrast, sharpen, brightness, contrast"),
    ({"invert": False, "nodata_color": "#ff0000"}, None),
])  # fmt: skip
def test_what_is_said_of_classes_in_vain_is_told(said, idle):
    look = sp.Look(classes={1: ("#ff0000", "sand")}, **said)
    source = ArraySource(np.array([[[1, 1]]], np.uint8))
    told = resolve(source, look).warnings
    assert [text.partition(": ")[0] for text in told] == ([] if idle is None else [idle])
    assert resolve(source, replace(look, classes={})).warnings == ()


def test_a_look_is_a_value():
    """Equal by what it says, hashable, unchangeable from outside, and typed."""
    classes = {1: ["#ff0000", "mud"]}
    region = {"rows": [0, 5], "columns": [1, 2]}
    look = Look(limits=np.array([0.5, 2]), curve="gamma:1.5", colormap="kiln", classes=classes,
                limits_from=region, brightness=np.float32(0.5))  # fmt: skip
    classes[2], region["rows"] = ["#00ff00", ""], [3, 4]
    same = Look.from_dict(look.to_dict())
    assert (look == same, hash(look) == hash(same), len({look, same})) == (True, True, 1)
    assert look.to_dict()["limits_from"]["rows"] == [0, 5]
    assert isinstance(look.limits[0], Limits)
    assert isinstance(look.curve, Curve)
    assert pickle.loads(pickle.dumps(look)) == look
    for wrong in (lambda: look.classes.update({3: 1}), lambda: look.classes.__setitem__(3, 1)):
        with pytest.raises((AttributeError, TypeError)):
            wrong()
    with pytest.raises(TypeError):
        Look("natural")
    assert replace(look, invert=True) != look
    far = Look(classes={12345678: "#ff0000", 0.125: "#00ff00"}, limits=(1 / 3, 1e9))
    assert Look.from_dict(far.to_dict()) == far
    grey = sp.Colormap.from_dict(sp.colormaps["grey"].to_dict())
    assert (grey == sp.colormaps["grey"], hash(grey)) == (True, hash(sp.colormaps["grey"]))


WRONG = [
    (lambda r: sp.render(r, "percentile:2,98"), r"expected a Look, such as Look\(limits="),
    (lambda r: sp.render(r, {"limits": "minmax"}), "Look.from_dict"),
    (lambda r: sp.render([r], Look()), "layers have looks of their own"),
    (lambda r: sp.Layer(r, "minmax"), "expected a Look"),
    (lambda r: Look(classes={"water": "#ff0000"}), "'water' is not a number"),
    (lambda r: Look(classes={0: 3}), "expected a colour or"),
    (lambda r: Look(classes={0: "#f00"}), "expected #rrggbb"),
    (lambda r: Look(colormap=7), "expected a name, or a Colormap"),
    (lambda r: Look(colormap="kilm"), "did you mean 'kiln'"),
    (lambda r: Look(limits=7), "expected a text"),
    (lambda r: Look(limits=("a", "b")), "one of auto"),
    (lambda r: Look(curve=2.2), "expected a text such as"),
    (lambda r: sp.probe(sp.Outline({"type": "Point", "coordinates": [0, 0]}), row=0, column=0),
     "is an outline"),
    (lambda r: sp.probe([], row=0, column=0), "one raster or more"),
    (lambda r: sp.overlay([r]).legend(), "blended of layers"),
]  # fmt: skip


@pytest.mark.parametrize(("call", "match"), WRONG)
def test_what_is_no_look_is_told(call, match):
    with pytest.raises(sp.LookError, match=match):
        call(sp.from_array(np.uint8([[1, 2]])))


@pytest.mark.parametrize("corner", [(0, 0), (8, 10), (4, 5)])
def test_whether_a_kept_range_misses_is_told_by_all_of_the_image(corner):
    """A part of it that lies outside the range is drawn as it is in the whole."""
    values = np.full((1, 9, 11), 20, np.uint16)
    values[(0, *corner)] = 700
    raster = sp.from_array(values, grid=GRID)
    raster._source.look = Look(limits=(650, 900))
    whole = sp.render(raster)
    for rows, columns in (((0, 4), (0, 5)), ((5, 9), (6, 11)), ((0, 9), (0, 11))):
        part = sp.render(raster, view=sp.View(rows=rows, columns=columns), size=(9, 11))
        assert part.scales[0].limits == whole.scales[0].limits == "fixed:650,900"
    raster._source.look = Look(limits=(5000, 9000))
    with pytest.warns(sp.DataWarning, match="misses the data altogether"):
        assert sp.render(raster).scales[0].limits == "percentile:1,99"


def test_a_kept_range_is_judged_in_physical_values_and_without_fill():
    values = np.full((2, 9, 11), 100, np.int16)
    values[:, :3] = -9999
    bands = [sp.Band(name, unit="K", scale=0.5, offset=10, nodata=-9999) for name in ("a", "b")]
    raster = sp.from_array(values, grid=GRID, bands=bands)
    raster._source.look = Look(channels=(1,), limits=(55, 65))  # 100 is 60 K
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", sp.DataWarning)
        assert sp.render(raster).scales[0].limits == "fixed:55,65"
        raster._source.look = Look(channels=(1,), limits=(-6000, -4900))
        assert sp.render(raster).scales[0].limits == "percentile:1,99"
        empty = sp.from_array(np.full((9, 11), -9999, np.int16), grid=GRID, nodata=-9999)
        empty._source.look = Look(limits=(1, 2))
        assert sp.render(empty).scales[0].limits == "fixed:1,2"


def test_tables_at_hand_are_those_of_the_same_numbers_alone():
    stored = np.arange(4096, dtype="u2").reshape(1, 64, 64)
    bands = [sp.Band("a"), sp.Band("alike", unit="m"), sp.Band("b", nodata=7),
             sp.Band("c", scale=2.0), sp.Band("d", offset=5.0)]  # fmt: skip
    looks = [Look(limits=(0, 3000)), Look(limits=(0, 3000), invert=True),
             Look(limits=(0, 3000), curve="sqrt"), Look(limits=(0, 3001))]  # fmt: skip
    tables = []
    for band in bands:
        for look in looks:
            picture = sp.render(sp.from_array(stored, bands=[band]), look=look)
            shading = picture.plan.shadings[0]
            shown = picture.rgba[..., 3] > 0
            assert (~shown).sum() == (band.nodata is not None)
            wanted = shading.codes(stored[0])
            np.testing.assert_array_equal(picture.rgba[..., 0][shown], wanted[shown])
            tables.append(shading.table(stored.dtype))
    assert len({id(table) for table in tables}) == (len(bands) - 1) * len(looks)
