"""The live view's page in a browser: gestures against ``render``, by mouse and by keys alone."""

from __future__ import annotations

import json
import shlex
from dataclasses import replace

import numpy as np
import pytest
from click.testing import CliRunner
from tests.browsing import button, canvas, settle

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.viewing.opening import OpenedView

NASTY = "<img src=x onerror=document.body.dataset.evil=1>"


@pytest.fixture
def files(tmp_path, utm, rng):
    bands = [sp.Band(name, name) for name in ("red", "green", "blue")] + [sp.Band(NASTY)]
    ramp = np.arange(70 * 90).reshape(70, 90) % 4000
    values = np.stack([np.roll(ramp, k * 17, axis=1) for k in range(4)]).astype("u2")
    sp.from_array(values, grid=utm, bands=bands).save(tmp_path / "scene.tif")
    grid = sp.Grid.from_corner((50, 60), x=480300, y=7359900, pixel_size=15, crs="EPSG:32727")
    depth = rng.normal(10, 3, (50, 60)).astype("f4")
    sp.from_array(depth, grid=grid, bands=[sp.Band("depth", unit="m")]).save(tmp_path / "depth.tif")
    return tmp_path


@pytest.fixture
def seen(browser, files):
    """A live view of two files, the lower one with its pixels in a page of 900 x 600."""
    names = ("scene.tif", "depth.tif")
    rasters = [sp.open_raster(files / name) for name in names]
    layers = [sp.Layer(rasters[0], sp.Look(channels="natural", limits="percentile:2,98")),
              sp.Layer(rasters[1], sp.Look(colormap="kiln"), visible=False)]  # fmt: skip
    view = OpenedView(layers, [(str(files / name), (), "") for name in names],
                      save_to=str(files / "out"))  # fmt: skip
    view.session.change({"do": "active", "layer": 0})
    page = browser.new_page(viewport={"width": 900, "height": 600})
    asked, wrong = [], []
    page.on("request", lambda one: asked.append(one.url))
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.goto(view.url)
    page.wait_for_selector("body[data-ready=yes][data-painted]")
    yield page, view
    assert wrong == []
    assert all(
        url.startswith((f"http://127.0.0.1:{view._running.port}/", "data:")) for url in asked
    )
    assert page.evaluate("document.body.dataset.evil") is None
    page.close()
    view.close()


def same(page, view):
    settle(page)
    for panel in range(len(view.session.state.panels)):
        shown = sp.render(view.session.layers(panel), view=view.session.view()).rgba
        got = canvas(page, f"picture-{panel + 1}" if panel else "picture")
        assert got.shape == shown.shape
        opaque = shown[..., 3] == 255
        np.testing.assert_array_equal(got[opaque], shown[opaque])
        assert (got[..., 3] == shown[..., 3]).all()


def test_dragging_a_limit_is_what_render_gives(seen):
    page, view = seen
    same(page, view)
    handle = page.get_by_role("slider", name="high red", exact=True)
    box = handle.bounding_box()
    page.mouse.move(box["x"] + box["width"] * 0.9, box["y"] + box["height"] / 2)
    page.mouse.down()
    for share in (0.7, 0.5, 0.4):
        page.mouse.move(box["x"] + box["width"] * share, box["y"] + box["height"] / 2)
    page.mouse.up()
    settle(page)
    limits = [str(rule) for rule in view.look.limits]
    assert limits[0].startswith("fixed:")
    assert float(limits[0].rpartition(",")[2]) < 3000
    same(page, view)
    page.get_by_role("spinbutton", name="low blue value").fill("123")
    page.keyboard.press("Tab")
    settle(page)
    assert str(view.look.limits[2]).startswith("fixed:123,")
    page.get_by_role("button", name="percentile:1,99", exact=True).click()
    same(page, view)
    page.get_by_role("checkbox", name="from view").check()
    same(page, view)
    assert view.look.limits_from == "view"


def test_going_zooming_and_reading_numbers(seen):
    page, view = seen
    page.get_by_role("textbox", name="Go to").fill("480455,7359655")
    page.keyboard.press("Enter")
    settle(page)
    assert view.session.state.center == (480455, 7359655)
    assert "480455" in page.get_by_role("status").inner_text()
    for _ in range(9):
        page.keyboard.press("+")
    settle(page)
    page.wait_for_function(
        "document.body.dataset.numbers && document.body.dataset.numbers !== 'no'"
    )
    numbers = json.loads(page.evaluate("document.body.dataset.numbers"))
    scene = view.layers[0].source
    x, y, value = min(numbers, key=lambda one: abs(one[0] - 290) + abs(one[1] - 280))
    row, column = scene.grid.locate(**dict(zip("xy", view.session.at(x, y), strict=True)))
    assert value == scene.read([0], ((row, row + 1), (column, column + 1))).values.item()
    page.mouse.move(x, y)
    settle(page)
    assert f"row {row}, column {column}" in page.locator("#where").inner_text()
    assert str(value) in page.locator("#values").inner_text()
    same(page, view)


def test_wheel_and_drag_move_the_place(seen):
    page, view = seen
    here = view.session.at(150, 200)
    page.mouse.move(150, 200)
    page.mouse.wheel(0, -500)
    settle(page)
    assert view.session.at(150, 200) == pytest.approx(here)
    before = view.session.state.center
    page.mouse.down()
    page.mouse.move(190, 230)
    page.mouse.move(210, 260)
    page.mouse.up()
    settle(page)
    moved = view.session.state.center
    assert moved[0] == pytest.approx(before[0] - 60 * view.session.state.pixel)
    assert moved[1] == pytest.approx(before[1] + 60 * view.session.state.pixel)
    same(page, view)


def test_layers_bands_and_colour_maps(seen):
    page, view = seen
    page.get_by_role("checkbox", name="show depth.tif").check()
    settle(page)
    page.get_by_role("slider", name="opacity depth.tif").fill("0.4")
    same(page, view)
    assert view.layers[1].opacity == 0.4
    page.get_by_role("combobox", name="red channel").select_option(index=3)  # of the nasty name
    same(page, view)
    assert view.look.channels[0] == NASTY
    page.get_by_role("button", name="one band").click()
    settle(page)
    page.get_by_role("button", name="colour map hearth").click()
    same(page, view)
    assert view.look.colormap.name == "hearth"
    page.get_by_role("combobox", name="Curve").select_option("sqrt")
    same(page, view)


def test_marks_and_thresholds(seen):
    page, view = seen
    page.mouse.click(200, 200)
    page.mouse.click(300, 250)
    settle(page)
    assert len(view.session.state.marks) == 2
    assert page.locator("#marks polyline").count() == 2
    page.get_by_role("button", name="Forget marks").click()
    settle(page)
    assert page.locator("#marks polyline").count() == 0
    page.get_by_role("textbox", name="threshold scene.tif").fill("red > 1500")
    page.keyboard.press("Tab")
    same(page, view)
    assert view.layers[0].threshold == "red > 1500"
    page.get_by_role("textbox", name="threshold scene.tif").fill("red >")
    page.keyboard.press("Tab")
    settle(page)
    assert "red >" in page.get_by_role("status").inner_text()
    told = page.locator("#told").evaluate("one => [one.scrollWidth, one.clientWidth]")
    assert told[0] <= told[1]  # the whole of it can be read
    assert view.layers[0].threshold == "red > 1500"


def test_by_the_keyboard_alone(seen):
    page, view = seen
    page.locator("#stage").focus()
    first = view.session.state
    for key in ("+", "ArrowLeft", "m", "PageUp"):
        page.keyboard.press(key)
        settle(page)
    assert view.session.state.active == 1
    assert len(view.session.state.marks) == 1
    for _ in range(4):
        page.keyboard.press("u")
        settle(page)
    assert view.session.state == first
    page.keyboard.press("r")
    settle(page)
    assert view.session.state.pixel < first.pixel
    page.keyboard.press("0")
    same(page, view)


def test_before_is_shown_while_the_key_is_held(seen):
    page, _ = seen
    settle(page)
    came = canvas(page)
    page.get_by_role("button", name="minmax", exact=True).click()
    page.locator("#stage").focus()
    settle(page)
    changed = canvas(page)
    assert (changed != came).any()
    page.keyboard.down("b")
    settle(page)
    np.testing.assert_array_equal(canvas(page), came)
    page.keyboard.up("b")
    settle(page)
    np.testing.assert_array_equal(canvas(page), changed)


def test_it_leaves_with_the_command_the_picture_and_the_look(seen, files, monkeypatch):
    page, view = seen
    page.get_by_role("button", name="minmax", exact=True).click()
    settle(page)
    words = shlex.split(page.get_by_role("textbox", name="Command").input_value())
    monkeypatch.chdir(files)
    done = CliRunner().invoke(commands, words[1:])
    assert done.exit_code == 0, (done.output, done.exception)
    with sp.open_raster(files / "view.png") as drawn:
        np.testing.assert_array_equal(np.moveaxis(drawn.pixels().data, 0, 2), canvas(page)[..., :3])
    page.get_by_role("button", name="Save picture").click()
    settle(page)
    assert (files / "out" / "view.png").exists()
    told = []
    page.on("dialog", lambda dialog: (told.append(dialog.message), dialog.accept()))
    page.get_by_role("button", name="Keep with file").click()
    settle(page)
    assert "scene.tif.spectrane.toml" in told[0]
    with sp.open_raster(files / "scene.tif") as again:
        assert str(again.look.limits[0]) == "minmax"
    page.get_by_role("button", name="End").click()
    settle(page)
    assert view._live.ended.is_set()


def test_panels_are_linked(seen):
    page, view = seen
    button(page, "two panels")
    page.get_by_role("combobox", name="panel 1 shows").select_option(label="scene.tif alone")
    settle(page)
    page.get_by_role("combobox", name="panel 2 shows").select_option(label="depth.tif alone")
    page.mouse.move(100, 150)
    page.mouse.wheel(0, -300)
    same(page, view)
    seen_alone = [[one.visible for one in panel] for panel in view.session.state.panels]
    assert seen_alone == [[True, False], [False, True]]
    page.mouse.move(110, 160)  # the cursor stands at the same place in the other panel
    settle(page)
    told = page.locator("#values").inner_text()
    assert all(name in told for name in ("scene.tif", "red", "depth.tif", "depth"))
    other = canvas(page, "over-2")[140:180, 90:130, 3]
    assert other[20, 20]
    assert other.any(axis=0).sum() >= 18
    button(page, "two panels with a swipe divider")
    same(page, view)
    page.get_by_role("slider", name="Swipe divider").press("ArrowRight")
    clip = "document.querySelectorAll('.pane')[1].style"
    assert page.evaluate(f"{clip}.clipPath").endswith("52%)")
    page.locator("#stage").focus()
    page.keyboard.press("f")
    assert page.evaluate(f"{clip}.visibility") == "hidden"
    button(page, "Previous view")
    assert view.session.later
    button(page, "one panel")
    same(page, view)


def test_tone_curves_thresholds_and_legends_by_hand(seen):
    page, view = seen
    page.get_by_role("checkbox", name="show depth.tif").check()
    settle(page)
    page.keyboard.press("PageUp")
    button(page, "by hand")
    page.get_by_role("slider", name="tone point 3").press("ArrowUp")
    same(page, view)
    assert str(view.look.curve) == "points:0/0,0.25/0.25,0.5/0.52,0.75/0.75,1/1"
    page.get_by_role("spinbutton", name="legend high depth.tif").fill("14")
    page.keyboard.press("Tab")
    same(page, view)
    assert view.look.limits[0].high == 14
    page.get_by_role("textbox", name="threshold depth.tif").fill("depth > 1.2")
    page.keyboard.press("Tab")
    settle(page)
    button(page, "threshold times 10")
    assert view.layers[1].threshold == "depth > 12"
    page.get_by_role("slider", name="threshold value depth.tif").fill("11")
    same(page, view)
    level = float(view.layers[1].threshold.split("> ")[1])
    assert level == pytest.approx(11, abs=0.1)


# An answer whose words come long after its headers, as they do on a busy machine.
SLOW_WORDS = """() => {
  const words = Response.prototype.json;
  Response.prototype.json = async function () {
    await new Promise((done) => { setTimeout(done, 250); });
    return words.call(this);
  };
}"""

ADDRESS_HOLDS = """(pixel) =>
  JSON.parse(decodeURIComponent(location.hash.slice(1)) || "{}").pixel === pixel"""


def test_outlines_flashes_and_the_address(seen):
    page, view = seen
    page.evaluate(SLOW_WORDS)
    button(page, "Draw outline")
    for x, y in ((200, 200), (320, 210), (260, 330)):
        page.mouse.click(x, y)
    page.keyboard.press("Enter")
    settle(page)
    assert len(view.session.state.outlines[0]) == 3
    assert page.locator("#outlined tr").count() == 1 + 4
    page.get_by_role("textbox", name="Limits rule").fill("deviation:1")
    page.keyboard.press("Enter")
    settle(page)
    page.locator("#stage").focus()
    page.keyboard.down("c")
    settle(page)
    counts = page.evaluate("document.body.dataset.flash")
    frame = view._live.viewed.drawer.frame(view.session, 0)
    assert int(counts) == (view._live.viewed.drawer.beyond(frame.planned[0], frame.grid) != 0).sum()
    page.keyboard.up("c")
    page.keyboard.press("+")
    settle(page)
    kept = view.session.state
    page.wait_for_function(ADDRESS_HOLDS, arg=kept.pixel)  # once the hand rests
    view.session.state = replace(kept, pixel=99.0)
    page.reload()
    page.wait_for_selector("body[data-ready=yes][data-painted]")
    same(page, view)
    assert view.session.state.pixel == kept.pixel
    assert str(view.look.limits[0]) == "deviation:1"
    assert page.get_by_role("img", name="Overview").count() == 1


def test_the_page_fits(seen):
    page, view = seen
    for width, height in ((1920, 1080), (390, 800)):
        page.set_viewport_size({"width": width, "height": height})
        settle(page)
        assert page.evaluate("document.documentElement.scrollWidth") <= width
        same(page, view)
