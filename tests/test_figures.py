"""Figures say what they show: their words, lines and counts, without a screen."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image

import spectrane as sp
from spectrane import figures
from spectrane.display.legends import round_ticks
from spectrane.display.linked import linked
from spectrane.figures.keys import Letters, ticks_apart
from spectrane.figures.paper import figure_of, save_figure
from spectrane.model.errors import FormatError, GridMismatch, LookError
from spectrane.model.source import source_of


def words(figure):
    found = [text.get_text() for text in figure.texts]
    for axes in figure.axes:
        found += [axes.get_title(loc="left"), axes.get_xlabel()]
        found += [text.get_text() for text in axes.texts]
    return " | ".join(found)


@pytest.fixture
def scene(rng, utm):
    array = rng.normal(100, 20, (3, 70, 90)).clip(1, 250).astype("u1")
    array[:, :7] = 0
    bands = [sp.Band(name, role=name) for name in ("red", "green", "blue")]
    return sp.from_array(array, grid=utm, bands=bands, nodata=0)


@pytest.mark.filterwarnings("ignore:.*cut off")
def test_shown_values_count_what_is_there(scene):
    look = sp.Look(limits=(80, 120))
    one = sp.shown_values(scene, look)[0]
    values = scene.pixels("red").compressed()
    assert one.counts.sum() == pytest.approx(values.size, abs=20)  # 0.1 % lie off the axis
    assert one.invalid == 7 * 90
    assert one.below == pytest.approx((values < 80).mean())
    assert one.above == pytest.approx((values > 120).mean())
    levels = sp.render(scene, look).rgba[7:, :, 0]
    np.testing.assert_array_equal(one.levels, np.bincount(levels.ravel(), minlength=256))


def test_the_histogram_says_limits_shares_and_invalid(scene, tmp_path):
    figure = figures.histogram(scene, sp.Look(limits=(80, 120), curve="sqrt"))
    said = words(figure)
    for part in ("red = red", "fixed:80,120, sqrt", "80", "120", "630 invalid", "% below"):
        assert part in said
    assert len(figure.axes) == 9  # before, its curve, after; three channels
    save_figure(figure, tmp_path / "h.png")
    with Image.open(tmp_path / "h.png") as picture:
        assert picture.size == (1280, 800)
    for ending in ("pdf", "svg"):
        save_figure(figure, tmp_path / f"h.{ending}")
    with pytest.raises(FormatError, match="figures are written as"):
        save_figure(figure, tmp_path / "h.gif")
    with pytest.raises(sp.ExistingFile):
        save_figure(figure, tmp_path / "h.png")


def test_a_wide_range_gets_a_logarithmic_axis():
    array = np.concatenate([np.full(90000, 5.0), np.geomspace(5, 5000, 10000)]).reshape(100, 1000)
    figure = figures.histogram(sp.from_array(array.astype("f4")), sp.Look(limits="minmax"))
    assert figure.axes[0].get_yscale() == "log"


def test_panels_lie_at_the_same_place(scene, rng):
    x, y = scene.grid.bounds[0], scene.grid.bounds[3]
    grid = sp.Grid.from_corner((14, 18), x=x, y=y, pixel_size=50, crs="EPSG:32727")
    coarse = np.repeat(np.repeat(np.arange(14 * 18, dtype="u1").reshape(14, 18), 1, 0), 1, 1)
    other = sp.from_array(coarse, grid=grid)
    look = sp.Look(limits="type")
    first, second = linked(
        [("a", source_of(scene), look), ("b", source_of(other), look)],
        sp.View(bounds=(x + 200, y - 500, x + 600, y - 200)), (30, 40),
    )  # fmt: skip
    assert first.rgba.shape == second.rgba.shape == (30, 40, 4)
    for row, column in ((0, 0), (29, 39), (14, 22)):
        at_x, at_y = x + 200 + (column + 0.5) * 10, y - 200 - (row + 0.5) * 10
        r, c = grid.locate(x=at_x, y=at_y)
        assert second.rgba[row, column, 0] == coarse[r, c]
        r, c = scene.grid.locate(x=at_x, y=at_y)
        assert first.rgba[row, column, 0] == scene.pixels("red")[0].data[r, c]


def test_panels_in_other_systems_are_linked_too(scene):
    import pyproj

    turn = pyproj.Transformer.from_crs("EPSG:32727", "EPSG:4326", always_xy=True)
    lon, lat = turn.transform(*scene.grid.center(row=35, column=45))
    grid = sp.Grid.from_corner((200, 200), x=lon - 0.01, y=lat + 0.01, pixel_size=1e-4,
                               crs="EPSG:4326")  # fmt: skip
    columns = np.tile(np.arange(200, dtype="u1"), (200, 1))
    look = sp.Look(limits="type")
    panels = linked(
        [("a", source_of(scene), look), ("b", source_of(sp.from_array(columns, grid=grid)), look)],
        sp.View(), (70, 90),
    )  # fmt: skip
    assert abs(int(panels[1].rgba[35, 45, 0]) - 100) <= 1


@pytest.mark.parametrize("mode", ["panels", "checker", "swipe"])
@pytest.mark.parametrize("histograms", [False, True])
def test_comparisons_are_captioned(scene, mode, histograms):
    looks = [sp.Look(limits="type"), sp.Look(limits="minmax", invert=True)]
    figure = figures.compare([(scene, look) for look in looks], mode=mode, histograms=histograms)
    said = words(figure)
    assert "red green blue 0 … " in said
    assert "type, linear" in said
    assert "minmax, linear, inverted" in said


@pytest.mark.parametrize(("count", "shape", "bar"), [
    (2, (40, 120), None), (2, (120, 40), "right"), (3, (60, 60), "bottom"), (4, (40, 120), "right"),
    (5, (60, 60), None), (5, (120, 40), "bottom"), (6, (60, 60), "right"), (6, (40, 120), None),
])  # fmt: skip
def test_panels_fill_the_sheet(count, shape, bar):
    raster = sp.from_array(np.arange(float(np.prod(shape))).reshape(shape))
    figure = figures.compare([raster] * count, bar=bar, caption="the same thing")
    wide, high = figure.get_size_inches() * figure.dpi
    assert wide <= 1280
    assert high <= 800
    panels = [axes.get_position() for axes in figure.axes if axes.images][:count]
    shares = {(round(place.width * wide), round(place.height * high)) for place in panels}
    assert len(shares) == 1
    ((width, height),) = shares
    assert width / height == pytest.approx(shape[1] / shape[0], rel=0.02)
    assert count * width * height > 0.45 * wide * high
    for one in panels:
        assert min(one.x0, one.y0) >= 0
        assert max(one.x1, one.y1) <= 1
    apart = {(round(one.x0, 3), round(one.y0, 3)) for one in panels}
    assert len(apart) == count


def test_a_key_that_all_share_is_drawn_once():
    first, second = (sp.from_array(np.linspace(0, top, 400).reshape(20, 20)) for top in (50, 90))
    alike = sp.Look(limits=(0, 60), colormap="kiln")
    other = sp.Look(limits=(0, 80), colormap="kiln")
    for looks, mode, bars in (
        ([alike, alike], "panels", 1), ([alike, other], "panels", 2), ([alike, other], "swipe", 2),
        ([alike, alike], "checker", 1),
    ):  # fmt: skip
        figure = figures.compare(
            list(zip([first, second], looks, strict=True)), bar="right", mode=mode
        )
        pictures = 1 if mode != "panels" else 2
        assert len(figure.axes) == pictures + bars
        ticks = [text.get_text() for text in figure.axes[-1].get_yticklabels()]
        assert ticks[0] == "0"
        assert ticks[-1] == ("60" if bars == 1 else "80")
        pointed = figure.axes[pictures].patches
        assert len(pointed) == (1 if bars == 1 else 0)  # the second goes beyond 60
        assert "band 1 0 … 60, linear, kiln" in words(figure)


def test_what_cannot_be_compared_is_told(scene):
    for layers, options, match in (
        ([scene], {}, "expected 2 to 6"),
        ([scene] * 7, {}, "expected 2 to 6"),
        ([scene] * 3, {"mode": "swipe"}, "2 for swipe"),
        ([scene] * 2, {"mode": "blink"}, "expected one of panels"),
        ([scene] * 2, {"bar": "top"}, "bar 'top'"),
        ([scene] * 2, {"size": (90, 400)}, "need 240x100"),
    ):
        with pytest.raises(LookError, match=match):
            figures.compare(layers, **options)
    with pytest.raises(GridMismatch, match="has no place on a map, and others have one"):
        figures.compare([scene, sp.from_array(np.zeros((9, 9), "u1"))])


def test_profiles_leave_gaps_and_show_spread(scene):
    points = [{"name": "a", "row": 30, "column": 3}, {"name": "hole", "row": 2, "column": 2}]
    table = sp.profile(scene, points)
    figure = figures.profile(table)
    axes = figure.axes[0]
    assert [line.get_label() for line in axes.lines] == ["a", "hole"]
    assert np.isnan(axes.lines[1].get_ydata()).all()
    assert axes.get_xlabel() == "wavelength (nm; nominal where only the role is known)"


TICKS = [
    ((0, 1), ["0.0", "0.2", "0.4", "0.6", "0.8", "1.0"]),
    ((0.013, 0.187), ["0.05", "0.10", "0.15"]),
    ((-1000, 2000), ["-1000", "-500", "0", "500", "1000", "1500", "2000"]),
    ((5, 5), []),
]


@pytest.mark.parametrize(("ends", "wanted"), TICKS)
def test_round_ticks(ends, wanted):
    assert [text for _, text in round_ticks(*ends)] == wanted


@pytest.mark.filterwarnings("ignore:.*cut off")
@pytest.mark.parametrize("curve", ["linear", "sqrt", "log:3"])
@pytest.mark.parametrize("invert", [False, True])
def test_a_bar_puts_each_tick_where_its_colour_is(curve, invert):
    raster = sp.from_array(np.float32([[1, 10, 100, 1000]]), bands=[sp.Band("f", unit="K")])
    look = sp.Look(limits=(0, 1000), curve=curve, invert=invert, colormap="kiln")
    picture = sp.render(raster, look)
    found = picture.plan.legend(1025).bar
    assert found.title == "f (K)"
    ticks = {float(text): place for place, text in found.ticks}
    assert len(ticks) >= 4
    for column, value in enumerate((1, 10, 100, 1000)):
        if value in ticks:
            at = found.colors[min(1024, int(ticks[value] * 1025))].astype(int)
            drawn = picture.rgba[0, column].astype(int)
            assert np.abs(at - drawn).max() <= 6


def test_legends_of_channels_and_classes(scene):
    figure = figures.colorbar(sp.render(scene, sp.Look(limits="minmax")))
    assert "green: green" in words(figure)
    look = sp.Look(classes={1: ("#ff0000", "mud"), 2: ("#00ff00", "")})
    picture = sp.render(sp.from_array(np.uint8([[1, 2]])), look)
    said = words(figures.colorbar(picture))
    assert "mud" in said
    assert "2" in said


def test_views_by_position_in_any_system(scene):
    import pyproj

    turn = pyproj.Transformer.from_crs("EPSG:32727", "EPSG:4326", always_xy=True)
    lon, lat = turn.transform(*scene.grid.center(row=35, column=45))
    view = sp.View(center=(lon, lat), pixel=10, size=(10, 20), crs="EPSG:4326")
    window = view.window(scene.grid)
    assert abs(window[0][0] - 30) <= 1
    assert abs(window[1][0] - 35) <= 1
    with pytest.raises(LookError, match="not a code or WKT"):
        sp.View(center=(0, 0), pixel=1, size=(1, 1), crs="nowhere").window(scene.grid)
    with pytest.raises(GridMismatch, match="has no coordinate system"):
        view.window(sp.Grid((9, 9)))
    crisp = sp.render(scene, sp.Look(limits="type"), view=sp.View(rows=(30, 33), columns=(40, 44)),
                      size=(300, 400))  # fmt: skip
    assert crisp.rgba.shape == (300, 400, 4)
    assert len(np.unique(crisp.rgba.reshape(-1, 4), axis=0)) <= 12


@pytest.mark.parametrize("side", ["left", "right", "bottom"])
def test_keys_of_a_comparison_are_read_in_the_figure(scene, side):
    values = np.tile(np.array([1, 2, 2, 3], "u1"), (20, 5))
    classes = {k: ("#336699", f"class {k}") for k in range(1, 9)}
    bands = [sp.Band(role, role=role) for role in ("nir", "red", "green")]
    false = sp.from_array(np.random.default_rng(2).random((3, 20, 20)), bands=bands)
    figure = figures.compare(
        [(sp.from_array(values), sp.Look(classes=classes)), (false, sp.Look(channels=[1, 2, 3]))],
        bar=side,
    )
    said = words(figure)
    for text in ("class 1", "class 3", "bright red: leaves, high near infrared", "classes"):
        assert text in said
    assert "class 4" not in said
    wide, high = figure.get_size_inches() * figure.dpi
    panel = figure.axes[0].get_position()
    below = side == "bottom"
    swatches = [axes.get_position() for axes in figure.axes if not axes.images]
    assert len(swatches) == 3 + 5
    for one in swatches[:3]:
        assert one.y1 < panel.y0 if below else one.x0 > panel.x1 or one.x1 < panel.x0
        assert one.width * wide == pytest.approx(14)
        assert one.y0 * high >= 0


def test_titles_tell_what_was_changed_after_limits():
    raster = sp.from_array(np.arange(400.0).reshape(20, 20), bands=[sp.Band("depth", unit="m")])
    looks = [sp.Look(limits=(0, 300), sharpen=(2, 1)), sp.Look(limits=(0, 300), brightness=0.2)]
    said = words(figures.compare([(raster, look) for look in looks]))
    assert "depth 0 … 300 m, linear, sharpen [2.0, 1.0]" in said
    assert "brightness 0.2" in said


def test_ticks_that_would_touch_make_way_for_the_ends():
    letters = Letters(figure_of(300, 100))
    ticks = [(0, "0"), (0.02, "1"), (0.5, "50"), (0.98, "99"), (1, "100")]
    assert [text for _, text in ticks_apart(ticks, 300, letters)] == ["0", "50", "100"]
    assert ticks_apart(ticks[:1], 300, letters) == ticks[:1]
