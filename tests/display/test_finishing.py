"""Pictures to hand on: keys in the picture, and captions."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.display.keys import key_of
from spectrane.display.panels import DARK
from spectrane.model.asking import SIDES


def keyed(values, look, **options):
    picture = sp.render(sp.from_array(values, **options), look)
    return key_of("a.tif", picture.plan, 100, picture.in_sixteen_bits.pixels)


RAMP = np.linspace(-50, 150, 2000).reshape(40, 50)


@pytest.mark.parametrize(
    ("limits", "curve", "cut", "texts"),
    [
        ((0, 100), "linear", (True, True), ["0", "20", "40", "60", "80", "100"]),
        ((100, 0), "linear", (True, True), ["100", "80", "60", "40", "20", "0"]),
        ((-50, 150), "linear", (False, False), ["-50", "0", "50", "100", "150"]),
        ((-60, 100), "linear", (False, True), ["-60", "-50", "0", "50", "100"]),
        ((0, 160), "sqrt", (True, False), ["0"]),
    ],
)
def test_a_bar_runs_from_end_to_end_and_says_what_is_cut(limits, curve, cut, texts):
    key = keyed(RAMP, sp.Look(limits=limits, curve=curve, colormap="kiln"),
                bands=[sp.Band("depth", unit="m")])  # fmt: skip
    assert key.title == "depth (m)"
    assert [side is not None for side in key.cut] == list(cut)
    places = [place for place, _ in key.ticks]
    assert places == sorted(places)
    assert (places[0], places[-1]) == (0, 1)
    found = [text for _, text in key.ticks]
    assert found[: len(texts)] == texts if curve == "sqrt" else set(texts) - {"-50"} <= set(found)
    if curve == "sqrt":  # a tick stands where the curve puts it
        at = next(place for place, text in key.ticks if text == "50")
        assert at == pytest.approx((50 / 160) ** 0.5, abs=0.01)


def test_only_classes_that_occur_are_told():
    classes = {k: (f"#{k:02x}0000", f"class {k}" if k % 2 else "") for k in range(1, 250)}
    values = np.array([[3, 3, 4], [9, 4, 9]], "u1")
    key = keyed(values, sp.Look(classes=classes))
    assert key.entries == (("#030000", "class 3"), ("#040000", "4"), ("#090000", "class 9"))
    picture = sp.render(sp.from_array(values), sp.Look(classes=classes))
    assert picture.legend().classes == key.entries
    plan = picture.plan
    assert key_of("x", plan, 9).entries[0] == ("#010000", "class 1")


def test_what_the_colours_of_a_composite_mean():
    bands = [sp.Band(name, role=name) for name in ("nir", "red", "swir22")] + [sp.Band("other")]
    values = np.random.default_rng(1).random((4, 5, 6))
    entries = keyed(values, sp.Look(channels=[1, 2, 4]), bands=bands).entries
    assert entries == (
        ("#ff0000", "bright red: leaves, high near infrared"),
        ("#00ff00", "bright green: bare ground, high red"),
        ("#0000ff", "bright blue: high other"),
        ("#ffffff", "white: high in all"), ("#000000", "black: low in all"),
    )  # fmt: skip


def test_natural_colours_need_no_words():
    bands = [sp.Band(name, role=name) for name in ("blue", "green", "red")]
    values = np.random.default_rng(1).random((3, 5, 6))
    key = keyed(values, sp.Look(channels="natural"), bands=bands)
    assert (key.title, key.entries) == ("a.tif: natural colours", ())


@pytest.mark.parametrize("side", SIDES)
@pytest.mark.parametrize("what", ["bar", "classes", "composite"])
def test_the_picture_stays_as_it_is_and_the_key_is_beside_it(side, what):
    if what == "classes":
        classes = dict.fromkeys(range(3), ("#ff0000", "one"))
        values, look = (RAMP.astype(int) % 3).astype("u1"), sp.Look(classes=classes)
    else:
        values = RAMP if what == "bar" else np.stack([RAMP, RAMP + 1, RAMP * 2])
        look = sp.Look(channels=[1] if what == "bar" else [1, 2, 3], limits=(0, 100))
    picture = sp.render(sp.from_array(values), look)
    sheet = picture.finished(bar=side, caption="one line\nand another")
    rows, columns = picture.rgba.shape[:2]
    left = sheet.shape[1] - columns if side == "left" else 0
    clear = picture.rgba[..., 3] == 0
    part = sheet[:rows, left : left + columns]
    np.testing.assert_array_equal(part[~clear], picture.rgba[~clear])
    assert (part[clear] == DARK).all()
    beside = (
        sheet[rows:, :columns] if side == "bottom" else sheet[:, (columns + 6) % sheet.shape[1] :]
    )
    assert len(np.unique(beside.reshape(-1, 4), axis=0)) > 5
    assert (sheet[..., 3] == 255).all()


def test_what_is_saved_says_the_caption_and_not_the_place(tmp_path, utm):
    picture = sp.render(
        sp.from_array(RAMP[:, :1] + np.zeros(50), grid=utm.cropped(((0, 40), (0, 50))))
    )
    picture.save(tmp_path / "plain.png")
    picture.save(tmp_path / "key.png", bar="right", caption="Seven")
    plain, keyed = ((tmp_path / f"{name}.png").read_bytes() for name in ("plain", "key"))
    assert b"Bounds:" in plain
    assert b"Bounds:" not in keyed
    assert b"Caption: Seven" in keyed
    with pytest.raises(sp.LookError, match="bar 'top'"):
        picture.finished(bar="top")
    with pytest.raises(sp.LookError, match="drawn in 8 bits"):
        picture.save(tmp_path / "a.png", bits=16, bar="right")


@pytest.mark.parametrize("side", SIDES)
def test_each_visible_layer_has_its_key(side):
    classes = {1: ("#ff0000", "one"), 2: ("#00ff00", "two")}
    layers = [
        sp.Layer(sp.from_array(RAMP), sp.Look(limits=(0, 100)), name="lowest"),
        sp.Layer(sp.from_array(np.ones((40, 50), "u1")), sp.Look(classes=classes), opacity=0.5),
        sp.Layer(sp.from_array(RAMP), visible=False),
    ]
    picture = sp.overlay(layers)
    assert [shown.title for shown in picture.shown] == ["lowest", "an array in memory"]
    assert picture.shown[1].key(9).entries == (("#ff0000", "one"),)
    many = sp.Look(classes={k: (f"#{k:02x}0000", f"class {k}") for k in range(1, 60)})
    late = sp.overlay([sp.Layer(sp.from_array(np.full((4, 5), 55, "u1")), many)]).shown[0]
    assert late.key(9).entries == (("#370000", "class 55"),)
    sheet = picture.finished(bar=side)
    assert (sheet.shape[0] > 40) if side == "bottom" else (sheet.shape[1] > 50)
    with pytest.raises(sp.LookError, match="nothing to tell"):
        sp.Picture(picture.rgba, picture.grid, (), "a").finished(bar=side)
