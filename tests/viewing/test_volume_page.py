"""The live view of volumes in a browser, by mouse and by keys alone."""

from __future__ import annotations

import numpy as np
import pytest
from tests.browsing import button, canvas, settle

import spectrane as sp
from spectrane.viewing.opening import OpenedVolumes

NASTY = "<img src=x onerror=document.body.dataset.evil=1>"


@pytest.fixture
def joint(browser, tmp_path, rng):
    """A live view of a volume of two frames and a map, in a page of 900 x 600."""
    values = rng.integers(-900, 1500, (2, 24, 24, 24)).astype("i2")
    frames = [sp.Band(NASTY), sp.Band("later")]
    ct = sp.volume_from_array(values, affine=np.diag([2, 2, 3, 1]), frames=frames)
    effect = np.zeros((24, 24, 24), "f4")
    effect[4:8, 4:8, 4:8] = 9
    effect[16:18, 16:18, 16:18] = 5
    laid = sp.volume_from_array(effect, affine=np.diag([2, 2, 3, 1]))
    layers = [
        sp.VolumeLayer(ct, sp.Look(limits="window:bone")),
        sp.VolumeLayer(
            laid, sp.Look(limits=(0, 9), colormap="hearth"), threshold="band(1) > 1", name="map"
        ),
    ]
    view = OpenedVolumes(layers, save_to=str(tmp_path / "out"))
    page = browser.new_page(viewport={"width": 900, "height": 600})
    wrong = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.goto(view.url)
    page.wait_for_selector("body[data-ready=yes][data-painted]")
    yield page, view
    assert wrong == []
    assert page.evaluate("document.body.dataset.evil") is None
    page.close()
    view.close()


def planes(page, view):
    """Compare every plane with what is drawn of it."""
    settle(page)
    drawn = view._live.viewed.draw(before=False)
    for number, (rgba, _) in enumerate(drawn):
        np.testing.assert_array_equal(
            canvas(page, f"picture-{number + 1}" if number else "picture"), rgba)  # fmt: skip
    return drawn


def test_volumes_by_mouse(joint):
    page, view = joint
    assert len(planes(page, view)) == 4
    page.mouse.move(100, 150)
    at = view.point
    page.mouse.wheel(0, -100)
    planes(page, view)
    assert view.point == pytest.approx((at[0], at[1], at[2] + 3))
    page.mouse.click(120, 140)  # in the axial plane
    settle(page)
    assert view.point == pytest.approx(view.session.pane(0).millimetres(120, 140))
    assert f"x {view.point[0]:.1f}, y {view.point[1]:.1f}" in page.locator("#where").inner_text()
    page.keyboard.down("Shift")
    page.mouse.down()
    page.mouse.move(160, 100)
    page.mouse.up()
    page.keyboard.up("Shift")
    planes(page, view)
    assert str(view.look.limits[0]).startswith("fixed:")
    button(page, "group 2")
    assert view.session.state.point == pytest.approx((32, 32, 48))
    page.get_by_role("button", name="map", exact=True).click()
    settle(page)
    button(page, "threshold times 10")
    assert page.locator("#group-count").inner_text() == "0 groups, 0 voxels"
    button(page, "threshold divided by 10")
    page.get_by_role("slider", name="threshold value map").fill("6")
    settle(page)
    assert page.locator("#group-count").inner_text() == "1 group, 64 voxels"
    page.get_by_role("slider", name="Tilt of the free plane").fill("10")
    planes(page, view)
    assert view.session.state.tilt == 10


def test_volumes_by_the_keyboard_alone(joint):
    page, view = joint
    page.locator("#stage").focus()
    first, point = view.session.state, view.point
    for key in ("PageUp", "ArrowRight", "p", "PageDown", ".", "+", "m", "e"):
        page.keyboard.press(key)
        settle(page)
    state = view.session.state
    assert (state.panel, state.panels, state.layers[0].frame, len(state.marks)) == (1, 1, 2, 1)
    assert state.point == pytest.approx((point[0] - 1, point[1] - 2, point[2] + 3))
    assert len(planes(page, view)) == 1
    for _ in range(8):
        page.keyboard.press("u")
        settle(page)
    assert view.session.state == first
    page.keyboard.press(" ")  # plays the frames
    frames = set()
    for _ in range(100):
        page.wait_for_timeout(50)
        frames.add(view.session.state.layers[0].frame)
        if len(frames) == 2:
            break
    assert frames == {1, 2}
    page.keyboard.press(" ")
