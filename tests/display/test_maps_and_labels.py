"""What is laid over anatomy: limits that fit, opacity by value, labels with their names."""

from __future__ import annotations

import numpy as np
import pytest
from click.testing import CliRunner

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.display.slice_layers import prepared
from spectrane.display.slice_page import drawn_slice
from spectrane.display.slices import frame_sequence
from spectrane.kernels.oklab import to_oklab
from spectrane.model.labels import label_classes
from spectrane.viewing.volume_session import VolumeSession
from spectrane.viewing.volume_state import PANES


def volume(values, **given):
    return sp.volume_from_array(np.asarray(values), affine=np.diag([2.0, 2, 2, 1]), **given)


@pytest.fixture
def ct(rng):
    return volume(rng.integers(-900, 1400, (12, 12, 12)).astype("i2"))


PAIR = np.array([-1, 1])
MAPS = {
    "positive": (np.abs, None, lambda v: (0, np.percentile(v[v != 0], 99.9)), "hearth"),
    "negative": (lambda v: -np.abs(v), None,
                 lambda v: (-np.percentile(-v[v != 0], 99.9), 0), "hearth reversed"),
    "both": (lambda v: v, None, lambda v: PAIR * np.percentile(np.abs(v[v != 0]), 99.9),
             "ebbflow"),
    "mostly zero": (lambda v: np.where(v > 8, v, 0), None,
                    lambda v: (0, np.percentile(v[v != 0], 99.9)), "hearth"),
    "passing": (lambda v: v, "abs(band(1)) >= 4", lambda v: PAIR * np.abs(v).max(), "ebbflow"),
    "one side passes": (lambda v: v, "band(1) >= 4", lambda v: (4, v.max()), "hearth"),
    "the other side": (lambda v: v, "band(1) < -3.5", lambda v: (v.min(), -3.5), "hearth reversed"),
    "by a statistic": (lambda v: v, sp.Threshold(1, at=5, side="positive"),
                       lambda v: (5, v.max()), "hearth"),
}  # fmt: skip


@pytest.mark.parametrize("given", [
    {"threshold": "band(1) > 1e9"}, {"threshold": "band(1) > 1e9", "look": sp.Look(limits=(0, 1))},
    {"threshold": "band(1) > 0", "least": 9999},
])  # fmt: skip
def test_a_map_of_which_no_voxel_is_left_is_told(ct, given):
    layer = sp.VolumeLayer(ct, name="change", **given)
    with pytest.warns(sp.DataWarning, match=r"^change: no voxel is left where band\(1\) > "):
        sp.slice_picture([ct, layer], "axial")


UPTAKES = {"Bq/ml": True, "kBq/ml": True, "SUV": True, "g/ml": True, "HU": False, None: False}


@pytest.mark.parametrize("unit", UPTAKES)
def test_uptake_alone_runs_from_0_in_inverse_grey(rng, unit):
    values = rng.gamma(0.4, 900, (20, 20, 20)).astype("f4")
    pet = volume(values, frames=[sp.Frame("pet", unit=unit)])
    picture = sp.slice_picture(pet, "axial", labels=False)
    scale = picture.scales[0]
    high = np.percentile(values[values > values.mean(dtype=float)].astype(float), 99.5)
    if not UPTAKES[unit]:
        assert not scale.invert
        assert scale.limits == "percentile:1,99"
        return
    assert (scale.low, scale.high) == pytest.approx((0, high))
    assert scale.invert
    assert scale.limits == "uptake"
    colored = sp.slice_picture((pet, sp.Look(colormap="hearth")), "axial", labels=False)
    assert not colored.scales[0].invert
    integers = volume((values * 4).astype("u2"), frames=[sp.Frame("pet", unit=unit, scale=0.25)])
    assert sp.slice_picture(integers, "axial").scales[0].high == pytest.approx(high, abs=2)


def test_a_map_with_limits_has_colours_of_its_signs_and_a_kept_range_is_no_map_s(ct, rng):
    held = volume(rng.normal(0, 4, (12, 12, 12)).astype("f4")).with_look(sp.Look(limits=(0, 1)))
    for look, colors in ((None, "ebbflow"), (sp.Look(limits=(2, 8)), "hearth"),
                         (sp.Look(limits=(-8, -2)), "hearth reversed"),
                         (sp.Look(limits="symmetric"), "ebbflow")):  # fmt: skip
        plan = prepared([ct, sp.VolumeLayer(held, look)])[1].plan
        assert plan.look.colormap.name == colors
        assert look is not None or plan.scales[0].low == -plan.scales[0].high < -3


@pytest.mark.parametrize("name", MAPS)
def test_limits_of_a_map_fit_it(ct, rng, name):
    make, threshold, expected, colors = MAPS[name]
    values = make(rng.normal(0, 4, (12, 12, 12))).astype("f4")
    values[0, 0, 0] = 0
    layer = sp.VolumeLayer(volume(values), threshold=threshold)
    plan = prepared([ct, layer])[1].plan
    assert (plan.scales[0].low, plan.scales[0].high) == pytest.approx(
        tuple(expected(values.astype(float))), rel=1e-6)  # fmt: skip
    assert plan.look.colormap.name == colors
    own = sp.VolumeLayer(volume(values), sp.Look(limits=(0, 3), colormap="kiln"))
    said = prepared([ct, own])[1].plan
    assert (said.scales[0].high, said.look.colormap.name) == (3, "kiln")


def test_opacity_grows_with_the_value(rng):
    dark = volume(rng.integers(-900, 900, (4, 4, 4)).astype("i2"))
    values = np.zeros((4, 4, 4), "f4")
    values[0], values[1], values[2], values[3] = 0, -5, 5, 10
    layer = sp.VolumeLayer(volume(values), by_value=True)
    plan = prepared([dark, layer])[1].plan
    assert plan.color(np.array([0, 5, 10], "f4"))[:, 3].tolist() == pytest.approx(
        [0, 128, 255], abs=1)  # fmt: skip
    assert plan.color(np.array([-10], "f4"))[0, 3] == 255


def test_colours_of_labels_differ():
    for count, least in ((48, 0.05), (256, 0)):
        colors = [color for color, _ in label_classes(range(1, count + 1)).values()]
        assert len(set(colors)) == count
        lab = to_oklab(np.array([[int(c[k : k + 2], 16) for k in (1, 3, 5)] for c in colors]) / 255)
        apart = np.linalg.norm(lab[:, None] - lab[None], axis=-1)[~np.eye(count, dtype=bool)]
        assert apart.min() > least


def test_rims_are_one_picture_pixel_at_any_zoom(ct):
    parts = np.zeros((12, 12, 12), "u1")
    parts[3:9, 3:9, :] = 1
    labels = volume(parts).as_labels()
    lined = sp.VolumeLayer(labels, labels.look, rims=True)
    for scale in (2.0, 5.0):
        bare = drawn_slice(prepared([ct]), "axial", scale, {"at": 10.0}).rgba
        drawn = drawn_slice(prepared([ct, lined]), "axial", scale, {"at": 10.0}).rgba
        changed = (drawn != bare).any(axis=-1)
        filled = sp.VolumeLayer(labels, labels.look)
        inside = (drawn_slice(prepared([ct, filled]), "axial", scale, {"at": 10.0}).rgba
                  != bare).any(axis=-1)  # fmt: skip
        rows, columns = np.nonzero(inside)
        ring = np.zeros_like(inside)
        ring[rows.min() : rows.max() + 1, columns.min() : columns.max() + 1] = True
        ring[rows.min() + 1 : rows.max(), columns.min() + 1 : columns.max()] = False
        assert (changed <= ring).all()
        assert changed.sum() > 0.9 * ring.sum()


def test_pictures_of_a_sequence_have_one_size(rng):
    names = ["a", "quite a long name of a frame, which would be wider", "b"]
    frames = [sp.Band(name, unit="HU") for name in names]
    moving = volume(rng.integers(0, 99, (3, 6, 6, 6)).astype("i2"), frames=frames)
    shapes = {picture.rgba.shape for picture in frame_sequence(moving, size=(200, 400))}
    assert len(shapes) == 1


def test_labels_on_the_command_line(ct, rng, tmp_path):
    parts = (np.arange(12 * 12 * 12).reshape(12, 12, 12) % 30).astype("u1")
    ct.save(tmp_path / "ct.nii")
    volume(parts).save(tmp_path / "parts.nii")
    base = ["slices", str(tmp_path / "ct.nii"), "--plane", "axial", "--plain"]

    def run(*words):
        output = tmp_path / f"{len(list(tmp_path.iterdir()))}.png"
        done = CliRunner().invoke(commands, [*base, "-o", str(output), *words])
        assert done.exit_code == 0, done.output
        return sp.open_raster(output).pixels().data

    over = ["--labels", str(tmp_path / "parts.nii")]
    shown = {name: run(*words) for name, words in {
        "bare": [], "half": over, "said": [*over, "--opacity", "0.5"], "full": [*over, "--opacity",
        "1"], "two": [*over, "--show-labels", "12"], "rims": [*over, "--label-outlines"],
    }.items()}  # fmt: skip
    np.testing.assert_array_equal(shown["half"], shown["said"])
    changed = {name: (one != shown["bare"]).any(axis=0).mean() for name, one in shown.items()}
    assert 0 < changed["two"] < changed["half"] / 3
    assert min(changed["full"], changed["rims"]) > 0
    wrong = CliRunner().invoke(commands, [*base, "-o", str(tmp_path / "x.png"), *over,
                                          "--show-labels", "99"])  # fmt: skip
    assert "label '99'" in str(wrong.exception)


def test_a_picture_says_what_changes_its_meaning(ct, rng):
    effect = volume(np.abs(rng.normal(0, 4, (12, 12, 12))).astype("f4"), frames=["t"])
    test = sp.Threshold("t", p=0.01, dof=9)
    shown = sp.VolumeLayer(effect, threshold=test, least=3, name="map")
    picture = sp.slice_picture([ct, shown], at=10)
    told = f"where |t| >= {test.level():.3g} (p < 0.01, uncorrected), groups of at least 3 voxels"
    assert told in picture.notes[1]
    bare = sp.slice_picture([ct, sp.VolumeLayer(effect, threshold=test, least=3, name="map")],
                            at=10, labels=False)  # fmt: skip
    assert told in bare.notes[1]
    other = sp.slice_picture([ct, sp.VolumeLayer(effect, threshold="t >= 2", name="map")], at=10)
    assert "where t >= 2" in other.notes[1]
    found = sp.VolumeLayer(effect, threshold=sp.Threshold("t", fdr=0.05, dof=9), name="map")
    assert "(false discovery rate 0.05)" in sp.slice_picture([ct, found], at=10).notes[1]


@pytest.mark.parametrize(("shape", "plane"), [((20, 18, 1), "axial"), ((20, 1, 18), "coronal"),
                                              ((1, 20, 18), "sagittal")])  # fmt: skip
def test_a_single_slice_is_shown_as_one(rng, shape, plane):
    single = volume(rng.integers(0, 99, shape).astype("i2"))
    one = sp.three_planes(single, size=(200, 400), crosshair=False)
    alone = sp.slice_picture(single, plane, size=(200, 400))
    assert one.rgba.shape == alone.rgba.shape
    session = VolumeSession.of([single])
    assert (session.state.shown, PANES[session.state.panel]) == ((session.state.panel,), plane)
