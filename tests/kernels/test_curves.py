"""Every curve by its formula, and exact levels under each of them."""

from __future__ import annotations

import math
import warnings

import numpy as np
import pytest

import spectrane as sp
from spectrane.model.curves import Curve
from spectrane.model.errors import LookError
from spectrane.model.limits import Limits

FORMULAS = {
    "linear": lambda u: u,
    "sqrt": lambda u: math.sqrt(u),
    "square": lambda u: u * u,
    "gamma:2.2": lambda u: u ** (1 / 2.2),
    "log:3": lambda u: math.log10(1 + 999 * u) / 3,
    "log:1": lambda u: math.log10(1 + 9 * u),
    "asinh:0.1": lambda u: math.asinh(u / 0.1) / math.asinh(10),
    "asinh:0.5": lambda u: math.asinh(u / 0.5) / math.asinh(2),
    "logistic": lambda u: (
        (1 / (1 + math.exp(-8 * (u - 0.5))) - 1 / (1 + math.exp(4)))
        / (1 / (1 + math.exp(-4)) - 1 / (1 + math.exp(4)))
    ),
    "points:0/0.1,0.5/0.9,1/1": lambda u: 0.1 + 1.6 * u if u <= 0.5 else 0.8 + 0.2 * u,
    "points:0.2/0,0.4/1,0.8/0.5": lambda u: np.interp(u, [0.2, 0.4, 0.8], [0, 1, 0.5]),
}


@pytest.mark.parametrize("name", FORMULAS)
def test_each_curve_is_its_formula(name):
    u = np.linspace(0, 1, 41)
    wanted = [FORMULAS[name](float(v)) for v in u]
    np.testing.assert_allclose(Curve.of(name)(u), wanted, atol=1e-12)


@pytest.mark.filterwarnings("ignore:.*cut off")
@pytest.mark.parametrize("name", [*FORMULAS, "equalise"])
@pytest.mark.parametrize("dtype", ["u1", "u2", "i2", "f4", "f8"])
@pytest.mark.parametrize("invert", [False, True])
def test_levels_are_those_of_the_float64_formula(rng, form, name, dtype, invert):
    if dtype == "u1":
        array = rng.integers(0, 256, (37, 41)).astype(dtype)
    else:
        array = rng.normal(500, 300, (37, 41)).clip(1, 3000).astype(dtype)
    low, high = (20.0, 200.0) if dtype == "u1" else (100.0, 900.0)
    look = sp.Look(limits=(low, high), curve=name, invert=invert)
    picture = sp.render(sp.from_array(array), look)
    values = array.astype(np.float64)
    u = np.clip((values - low) / (high - low), 0, 1)
    if name == "equalise":
        inside = values[(values >= low) & (values <= high)]
        t = (inside[None, :] <= values.reshape(-1, 1)).mean(axis=1).reshape(values.shape)
    else:
        t = np.vectorize(FORMULAS[name])(u)
    t = 1 - t if invert else t
    got = picture.rgba[..., 0].astype(int)
    slack = 1 if dtype == "f8" else 0
    slack = 2 if name == "equalise" and dtype in ("f4", "f8") else slack  # 4096 bins
    # libm and NumPy may differ in the last bit: where t * 255 + ½ is whole, either is right.
    near = np.abs(t * 255 + 0.5 - np.round(t * 255 + 0.5)) < 1e-9
    assert (np.abs(got - np.floor(t * 255 + 0.5))[~near] <= slack).all()


WRONG = [
    ("curve", "bent", "expected one of asinh"),
    ("curve", "sqart", "did you mean 'sqrt'"),
    ("curve", "gamma", "takes 1 number, not 0: gamma:g"),
    ("curve", "gamma:0", "above 0"),
    ("curve", "log:-1", "above 0"),
    ("curve", "asinh:nan", "finite"),
    ("curve", "points:0/0", "two points or more"),
    ("curve", "points:0/0,0/1", "u must grow"),
    ("curve", "points:0.5/0,0.2/1", "u must grow"),
    ("curve", "points:0/0,1/2", "between 0 and 1"),
    ("limits", "window:40,0", "width 0: expected above 0"),
    ("limits", "symmetric:0", "percentile 0: expected above 0 and up to 100"),
    ("limits", "persentile:2,98", "did you mean 'percentile'"),
    ("sharpen", (0, 1), "radius above 0"),
    ("brightness", 2, "expected -1 to 1"),
    ("contrast", -1, "expected 0 to 100"),
    ("saturation", "much", "expected a number"),
    ("local_contrast", -2, "expected 0 to 100"),
    ("resample", "linear", "expected one of"),
    ("limits_from", "picture", "expected one of image, view"),
]


@pytest.mark.parametrize(("field", "value", "match"), WRONG)
def test_what_cannot_be_carried_out_is_named(field, value, match):
    with pytest.raises(LookError, match=match):
        sp.Look(**{field: value})


FITTED = [("log", 1, 6), ("asinh", 0.001, 1)]


@pytest.mark.parametrize(("name", "least", "most"), FITTED)
@pytest.mark.parametrize(("spread", "inside"), [(0.3, True), (6.0, True), (0.001, False)])
@pytest.mark.parametrize("dtype", ["u2", "f4"])
def test_a_curve_without_a_number_draws_the_median_at_a_third(
    rng, name, least, most, spread, inside, dtype
):
    """Within its bounds; beyond them it takes the nearer one."""
    array = (rng.lognormal(0, spread, (60, 70)) * 50).clip(1, 60000).astype(dtype)
    low, high = (0.0, float(np.percentile(array, 99.9))) if inside else (-1e9, 1e9)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", sp.DataWarning)
        scale = sp.render(sp.from_array(array), sp.Look(limits=(low, high), curve=name)).scales[0]
    number = float(scale.curve.partition(":")[2])
    assert least <= number <= most
    u = np.clip((array.astype(float) - low) / (high - low), 0, 1)
    median = np.median(u[(array >= low) & (array <= high)])
    drawn = float(Curve.of(scale.curve)(np.array([median]))[0])
    if number in (least, most):  # bright enough by the gentlest, or never by the strongest
        assert (drawn > 1 / 3) == (number == 1)
    else:
        assert drawn == pytest.approx(1 / 3, abs=0.002)


def test_windows_by_name(tmp_path, monkeypatch):
    """The user's own win over radiology's; a mistake among them spoils nothing else."""
    raster = sp.from_array(np.int16([[0, 100]]))

    def drawn(text):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore", sp.DataWarning)
            scale = sp.render(raster, sp.Look(limits=text)).scales[0]
        return scale.low, scale.high, scale.limits

    assert drawn("window:lung") == (-1350, 150, "window:lung")
    assert drawn("window:soft tissue") == (-150, 250, "window:soft tissue")
    monkeypatch.setenv("XDG_CONFIG_HOME", str(tmp_path))
    (tmp_path / "spectrane").mkdir()
    own = tmp_path / "spectrane" / "windows.toml"
    own.write_text('lung = [1, 2]\n"my own" = [3, 4]\nbrain = "wide"\nliver = [1, -3]\n')
    assert drawn("window:lung")[:2] == (0, 2)
    assert drawn("window:my_own")[:2] == (1, 5)
    assert drawn("window:brain")[:2] == (0, 80)
    for text, match in (("lung = 3\n", "lung = 3: expected"), ("lung = [", "no window of it")):
        own.write_text(text)
        with pytest.warns(sp.DataWarning, match=r"windows\.toml: " + match):
            assert sp.render(raster, sp.Look(limits="window:bone")).scales[0].low == -770
    with pytest.raises(LookError, match="no window 'lnug'.*did you mean 'lung'"):
        drawn("window:lnug")
    assert str(Limits.of("window:lung")) == "window:lung"


VALUES = np.array([[-40.0, -10, 0, 10, 20, 100]], "f4")
LIMITS = [
    ("window:40,80", (0.0, 80.0)),
    ("symmetric", (-100.0, 100.0)),
    ("symmetric:50", (-15.0, 15.0)),
]


@pytest.mark.filterwarnings("ignore:.*cut off")
@pytest.mark.parametrize(("limits", "wanted"), LIMITS)
@pytest.mark.parametrize("dtype", ["f4", "i2", "f8"])
def test_windows_and_symmetric_limits(limits, wanted, dtype):
    scale = sp.render(sp.from_array(VALUES.astype(dtype)), sp.Look(limits=limits)).scales[0]
    assert (scale.low, scale.high) == pytest.approx(wanted)


def test_symmetric_limits_are_physical():
    raster = sp.from_array(np.int16([[0, 100]]), bands=[sp.Band("t", scale=0.5, offset=-40.0)])
    assert sp.render(raster, sp.Look(limits="symmetric")).scales[0].high == 40.0


@pytest.mark.filterwarnings("ignore:.*cut off")
def test_limits_from_a_region(utm, rng):
    array = rng.integers(0, 100, (70, 90)).astype("u2")
    array[20:40, 30:50] += 1000
    raster = sp.from_array(array, grid=utm)
    x, y = utm.bounds[0], utm.bounds[3]
    ring = [(x + 300, y - 200), (x + 500, y - 200), (x + 500, y - 400), (x + 300, y - 400)]

    class Shape:
        __geo_interface__ = {"type": "Polygon", "coordinates": [ring]}

    inside = array[20:40, 30:50]
    bounds = (x + 300, y - 400, x + 500, y - 200)
    for region in ({"rows": [20, 40], "columns": [30, 50]}, Shape(), {"bounds": bounds},
                   {"polygon": Shape()}):  # fmt: skip
        scale = sp.render(raster, sp.Look(limits="minmax", limits_from=region)).scales[0]
        assert (scale.low, scale.high) == (inside.min(), inside.max())
    with pytest.raises(LookError, match="did you mean 'bounds'"):
        sp.render(raster, sp.Look(limits="minmax", limits_from={"bound": 3}))
