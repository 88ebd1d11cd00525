"""The page in a browser: what is ticked is seen, what is pointed at is told, nothing is fetched."""

from __future__ import annotations

import io
import json
import os
import re

import numpy as np
import pytest
from PIL import Image

import spectrane as sp
from spectrane.engine.memory import ArraySource
from spectrane.pages.page import overlay_page, page_of

EVIL = "</script><script>document.title='owned'</script><img src=x onerror=alert(1)>"


def flat(utm, color, name, columns=(0, 90)):
    values = np.empty((3, 70, columns[1] - columns[0]), "u1")
    values[:] = np.array(color)[:, None, None]
    grid = utm.cropped(((0, 70), columns))
    return sp.Raster(ArraySource(values, grid=grid)), name


@pytest.fixture
def layers(utm):
    red, _ = flat(utm, (200, 0, 0), "red")
    green, _ = flat(utm, (0, 200, 0), "green")
    heat = sp.from_array(np.arange(70 * 45.0).reshape(70, 45) / 100, grid=utm.cropped(
        ((0, 70), (45, 90))), bands=[sp.Band("heat", unit="K", nodata=0.0)])  # fmt: skip
    return [
        sp.Layer(red, name=EVIL, base=True), sp.Layer(green, name="green", base=True),
        sp.Layer(heat, sp.Look(limits=(0, 40), colormap="kiln"), opacity=0.5, name="heat"),
    ]  # fmt: skip


@pytest.fixture
def page(browser, layers, tmp_path):
    path = tmp_path / "map.html"
    overlay_page(layers, path, title=EVIL)
    context = browser.new_context(viewport={"width": 1000, "height": 700})
    shown = context.new_page()
    shown.wrong = []
    shown.on("pageerror", lambda error: shown.wrong.append(str(error)))
    shown.on("console", lambda said: shown.wrong.append(said.text))
    shown.on("request", lambda asked: shown.wrong.append(asked.url)
             if asked.url.startswith("http") else None)  # fmt: skip
    shown.goto(path.as_uri())
    shown.wait_for_selector("body[data-ready=yes]")
    yield shown
    assert shown.wrong == []
    context.close()


def color(page, column, row):
    """The colour on the screen at a picture position."""
    place = page.evaluate("() => document.getElementById('stage').getBoundingClientRect().toJSON()")
    shot = Image.open(io.BytesIO(page.screenshot())).convert("RGB")
    x = place["x"] + place["width"] * column / 90
    y = place["y"] + place["height"] * row / 70
    return np.array(shot.getpixel((round(x), round(y))))


def near(page, column, row, wanted):
    assert np.abs(color(page, column, row) - wanted).max() <= 6


def test_layers_are_ticked_faded_and_held_against_each_other(page):
    near(page, 20.5, 30.5, (200, 0, 0))
    page.check("#tick1")
    near(page, 20.5, 30.5, (0, 200, 0))
    assert not page.is_checked("#tick0")
    before = color(page, 70.5, 60.5)
    page.evaluate("() => { const f = document.getElementById('fade2'); f.value = 0;"
                  "f.dispatchEvent(new Event('input')); }")  # fmt: skip
    near(page, 70.5, 60.5, (0, 200, 0))
    assert np.abs(before - (0, 200, 0)).max() > 30
    page.uncheck("#tick2")
    page.check("#swiping")
    page.select_option("#left", "0")
    page.select_option("#right", "1")
    near(page, 20.5, 30.5, (200, 0, 0))
    near(page, 70.5, 30.5, (0, 200, 0))
    page.focus("#divider")
    for _ in range(15):
        page.keyboard.press("ArrowRight")
    near(page, 55.5, 30.5, (200, 0, 0))


def test_what_is_under_the_pointer_is_told(page, utm):
    place = page.evaluate("() => document.getElementById('stage').getBoundingClientRect().toJSON()")
    k = place["width"] / 90
    page.mouse.move(place["x"] + 60.5 * k, place["y"] + 40.5 * k)
    x, y = utm.center(row=40, column=60)
    told = page.inner_text("#where")
    found = [float(number) for number in re.findall(r"[xy] ([\d.]+)", told)]
    assert found == [pytest.approx(x, abs=1 + 10 / k), pytest.approx(y, abs=1 + 10 / k)]
    assert re.search(r"23\.8\d{4}° S +21\.19\d+° W", told)
    rows = page.inner_text("#values").split("\n")
    assert rows[0].split("\t") == ["heat", "heat", f"{(40 * 45 + 15) / 100:g} K"]
    page.mouse.move(place["x"] + 45.5 * k, place["y"] + 0.5 * k)
    assert "no data" in page.inner_text("#values")
    page.focus("#map")
    scale = page.inner_text("#barlength")
    for key in ("+", "+", "+", "ArrowLeft"):
        page.keyboard.press(key)
    assert page.inner_text("#barlength") != scale
    assert page.is_visible("#cross")
    page.click("#all")
    assert page.inner_text("#barlength") == scale


def test_text_of_data_is_text_and_a_phone_can_read_it(page):
    assert page.title() == EVIL
    assert page.inner_text("#title") == EVIL
    assert page.locator("#layers img").count() == 0
    assert page.locator(".ticks span").count() > 2
    page.set_viewport_size({"width": 390, "height": 780})
    assert page.evaluate("() => document.documentElement.scrollWidth") <= 390
    page.click("#fold")
    assert not page.is_visible("#layers")


def test_the_file_fetches_nothing_and_says_what_it_is(layers, tmp_path):
    text = page_of(sp.stack(layers), EVIL)
    assert text.count("<script") == 2
    assert "default-src 'none'" in text
    assert not re.search(r"(src|href)=[\"']?(https?:)?//", text)
    held = json.loads(re.search(r'id="content">(.*?)</script>', text, re.S)[1])
    assert [layer["name"] for layer in held["layers"]] == [EVIL, "green", "heat"]
    assert held["metres"] == 10
    smaller = page_of(sp.stack(layers), "x", values=False)
    assert len(smaller) < len(text)
    with pytest.raises(sp.FormatError, match=r"ending \.html"):
        overlay_page(layers, tmp_path / "map.png")
    overlay_page(layers, tmp_path / "map.html")
    with pytest.raises(sp.ExistingFile):
        overlay_page(layers, tmp_path / "map.html")
    assert os.listdir(tmp_path) == ["map.html"]
