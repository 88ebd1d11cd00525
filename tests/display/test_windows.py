"""Windows of the file: the functions of PS3.3 C.11.2 to the level, chosen by number or name."""

from __future__ import annotations

import sys
from pathlib import Path

import numpy as np
import pytest

import spectrane as sp

sys.path.insert(0, str(Path(__file__).parents[1] / "formats"))
from dicom_builder import image

CENTERS, WIDTHS = (30.0, 300.0, 40.0, 7.5, 100.0), (60.0, 1500.0, 1.0, 12.0, 2000.0)
VALUES = np.arange(-1024, 1024, dtype=np.int16).reshape(32, 64)
RESCALE = [(0x00281052, "DS", "0.5"), (0x00281053, "DS", "1.5")]


def linear(x, c, w):
    """Return t by the pseudo-code of C.11.2.1.2.1."""
    if x <= c - 0.5 - (w - 1) / 2:
        return 0.0
    return 1.0 if x > c - 0.5 + (w - 1) / 2 else (x - (c - 0.5)) / (w - 1) + 0.5


def exact(x, c, w):
    """Return t by C.11.2.1.3.2."""
    return 0.0 if x <= c - w / 2 else 1.0 if x > c + w / 2 else (x - c) / w + 0.5


def sigmoid(x, c, w):
    """Return t by C.11.2.1.3.1."""
    with np.errstate(over="ignore"):
        return 1 / (1 + np.exp(-4 * (x - c) / w))


FUNCTIONS = {"LINEAR": linear, "LINEAR_EXACT": exact, "SIGMOID": sigmoid}


@pytest.fixture
def filed(tmp_path):
    def write(*more, function="LINEAR", photometric="MONOCHROME2", values=VALUES):
        joined = {0x00281050: CENTERS, 0x00281051: WIDTHS}
        elements = [(tag, "DS", "\\".join(f"{n:g}" for n in numbers))
                    for tag, numbers in joined.items()]  # fmt: skip
        names = (0x00281055, "LO", "SOFT\\BONE\\EDGE\\FINE\\LUNG")
        path = tmp_path / "one.dcm"
        path.write_bytes(image(values, photometric=photometric, more=[
            *elements, *RESCALE, names, (0x00281056, "CS", function), *more]))  # fmt: skip
        return sp.open(path)

    return write


@pytest.mark.parametrize("photometric", ["MONOCHROME1", "MONOCHROME2"])
@pytest.mark.parametrize("function", list(FUNCTIONS))
@pytest.mark.parametrize("number", [1, 2, 3, 4, 5])
def test_windows_are_drawn_by_the_standards_formulas(filed, number, function, photometric):
    raster = filed(function=function, photometric=photometric)
    picture = sp.render(raster, sp.Look(limits=f"window:{number}"))
    c, w = CENTERS[number - 1], WIDTHS[number - 1]
    t = np.array([FUNCTIONS[function](x, c, w) for x in VALUES.ravel() * 1.5 + 0.5])
    t = 1 - t if photometric == "MONOCHROME1" else t
    wanted = np.floor(t * 255 + 0.5).reshape(VALUES.shape)
    np.testing.assert_array_equal(picture.rgba[..., 0], wanted)


def test_sixteen_bit_pictures_follow_the_sigmoid_too(filed, tmp_path):
    picture = sp.render(filed(function="SIGMOID"))
    picture.save(tmp_path / "deep.png", bits=16)
    t = sigmoid(VALUES * 1.5 + 0.5, CENTERS[0], WIDTHS[0])
    read = sp.open(tmp_path / "deep.png").pixels(1)[0]
    np.testing.assert_array_equal(read, np.floor(t * 65535 + 0.5))


CHOSEN = [
    ("auto", "window:SOFT", (0.0, 59.0)),
    ("window:2", "window:BONE", (-450.0, 1049.0)),
    ("window:bone", "window:BONE", (-450.0, 1049.0)),  # the file's own before the preset
    ("window:brain", "window:brain", (0.0, 80.0)),
    ("window:30,60", "window:30,60", (0.0, 60.0)),  # a person's is always c - w/2 to c + w/2
]


@pytest.mark.parametrize(("limits", "said", "ends"), CHOSEN)
def test_windows_are_chosen_by_number_explanation_or_preset(filed, limits, said, ends):
    raster = filed()
    scale = sp.render(raster, sp.Look(limits=limits)).scales[0]
    assert (scale.limits, (scale.low, scale.high)) == (said, ends)
    look = sp.Look.from_dict(sp.Look(limits=limits).to_dict())
    assert sp.render(raster, look).scales[0].low == ends[0]


def test_a_curve_takes_the_place_of_the_function(filed):
    scale = sp.render(filed(), sp.Look(limits="window:1", curve="sqrt")).scales[0]
    assert (scale.low, scale.high, scale.curve) == (0.0, 60.0, "sqrt")


@pytest.mark.parametrize(("name", "match"), [
    ("window:9", "no window '9'; the file's own are 1 SOFT: 30,60; 2 BONE"),
    ("window:lunge", "did you mean 'lung'"),
])  # fmt: skip
def test_an_unknown_window_is_told_with_those_there_are(filed, name, match):
    with pytest.raises(sp.LookError, match=match):
        sp.render(filed(), sp.Look(limits=name))


def test_a_window_that_shows_nothing_of_the_data_is_passed_over(filed):
    with pytest.warns(sp.DataWarning, match="misses the data altogether"):
        picture = sp.render(filed(values=np.full((8, 8), 1000, np.int16) + VALUES[:8, :8] % 7))
    assert picture.scales[0].limits == "percentile:1,99"


def test_a_window_of_no_allowed_width_is_left_out(filed):
    with pytest.warns(sp.DataWarning, match="WindowWidth 0.5 is not allowed"):
        raster = filed((0x00281050, "DS", "40\\50"), (0x00281051, "DS", "0.5\\80"))
    assert [one.center for one in raster.windows] == [50.0]


@pytest.mark.parametrize("bits", [8, 16])
def test_voi_tables_are_looked_up_value_by_value(tmp_path, bits):
    top = (1 << bits) - 1
    table = [0, top, top // 3, top // 2]
    item = [(0x00283002, "SS", [4, -1, bits]), (0x00283003, "LO", "ODD"),
            (0x00283006, "US" if bits == 16 else "OW",
             table if bits == 16 else bytes(table))]  # fmt: skip
    path = tmp_path / "one.dcm"
    values = np.array([[-9, -1, 0, 1, 2, 9]], np.int16)
    path.write_bytes(image(values, more=[(0x00283010, "SQ", [item])]))
    raster = sp.open(path)
    assert str(raster.windows[0]) == "ODD: table from -1 to 2"
    wanted = [np.floor(table[k] / top * 255 + 0.5) for k in (0, 0, 1, 2, 3, 3)]
    assert sp.render(raster).rgba[0, :, 0].tolist() == wanted


def test_windows_are_described(filed, run):
    raster = filed(function="SIGMOID")
    assert "Windows      1 SOFT: 30,60 SIGMOID" in str(raster.describe())
    assert raster.describe().to_dict()["windows"][1]["explanation"] == "BONE"
