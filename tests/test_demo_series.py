"""The demo's leaning series: it agrees with the same scan as one volume, at every millimetre."""

from __future__ import annotations

import json
import warnings

import numpy as np
import pytest

import spectrane as sp
from spectrane.display.bars import bars_panel
from spectrane.display.keys import Shown
from spectrane.model.labels import label_classes
from spectrane.surveying import surveyed_files


@pytest.fixture
def both(demo):
    with pytest.warns(sp.DataWarning, match="1 duplicate left out"):
        series = sp.open(demo / "fetlock_ct")
    return series, sp.open(demo / "fetlock.nii.gz")


def test_the_series_agrees_with_the_volume_at_the_same_millimetres(both):
    series, volume = both
    assert "gantry tilt" in series.metadata["placed by"]
    assert [one.explanation for one in series.windows] == ["BONE", "SOFT TISSUE"]
    shape = series.shape[1:]
    compared = 0
    for i, j, k in np.random.default_rng(1).integers(0, shape, (400, 3)).tolist():
        x, y, z = (series.affine @ (i, j, k, 1))[:3]
        own = series.voxels(i=(i, i + 1), j=(j, j + 1), k=(k, k + 1))
        at = np.linalg.inv(volume.affine) @ (x, y, z, 1)
        index = np.round(at[:3]).astype(int)
        assert np.abs(at[:3] - index).max() < 1e-3  # voxels' centres meet
        if own.mask.any() or (index < 0).any() or (index >= volume.shape[1:]).any():
            continue
        a, b, c = index.tolist()
        assert own[0, 0, 0] == volume.voxels(i=(a, a + 1), j=(b, b + 1), k=(c, c + 1))[0, 0, 0]
        compared += 1
    assert compared > 200
    here = sp.probe([series, volume], i=shape[0] // 2, j=shape[1] // 2, k=shape[2] // 2)
    assert here["physical"][0] == here["physical"][1]


def test_bars_speak_of_units_and_grow_upward(both):
    series, volume = both
    layers = [sp.VolumeLayer(one, sp.Look(limits="window:bone")) for one in (series, volume)]
    for size in ((800, 1280), (300, 500)):
        drawn = sp.three_planes(layers[:1], size=size)
        assert drawn.rgba.shape[1] <= size[1]
        plain = sp.three_planes(layers[:1], size=size, labels=False)
        assert drawn.rgba.shape[0] < plain.rgba.shape[0]  # the bar takes its room
    scale = drawn.scales[0]
    assert (scale.unit, scale.limits) == ("HU", "window:BONE")

    def shown(title, look, data):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return Shown(title, sp.render(sp.from_array(data), look).plan)

    data = np.int16([[0, 100]])
    for look, ends in ((sp.Look(limits="minmax"), (255, 0)),
                       (sp.Look(colormap="ebbflow", limits="minmax"), (98, 20))):  # fmt: skip
        panel = bars_panel([shown("joint", look, data)], 400, 14)
        strip = panel[45 : 45 + 310, 8, 0].astype(int)
        assert (strip[0], strip[-1]) == pytest.approx(ends, abs=12)
    classes = {0.0: ("#00000000", "clear"), 1.0: ("#ff0000", "bone"), 2.0: ("#00ff00", "")}
    key = bars_panel([shown("parts", sp.Look(classes=classes), data)], 200, 14)
    assert {tuple(one) for one in key[40:80:20, 10, :3].tolist()} == {(255, 0, 0), (0, 255, 0)}
    many = sp.Look(classes=label_classes(range(256)))  # labels of which nothing is known
    assert bars_panel([shown("many", many, data)], 200, 14) is None


def test_a_survey_tells_the_series_once(demo, run):
    found = [one for one in surveyed_files(demo) if "fetlock_ct" in one.path]
    assert [(one.format, one.planes, one.problem) for one in found] == [
        ("DICOM", sp.open(demo / "fetlock.nii.gz").shape[3] // 2, "")]  # fmt: skip
    assert "1 duplicate left out" in str(found[0].unusual)
    assert found[0].bytes > 10_000
    listed = json.loads(run("survey", demo, "--json")[1])["results"]
    assert sum("fetlock_ct" in one["path"] for one in listed) == 1


def test_corrections_are_kept_beside_the_folder(demo, tmp_path, run):
    import shutil

    shutil.copytree(demo / "fetlock_ct", tmp_path / "ct")
    assert run("amend", f"{tmp_path}/ct/", "--limits", "window:2", "--unit", "HU", "-q")[0] == 0
    assert (tmp_path / "ct.spectrane.toml").exists()
    with pytest.warns(sp.DataWarning, match="duplicate"), sp.open(tmp_path / "ct") as volume:
        assert volume.window == (-150.0, 249.0)
    one = sorted((tmp_path / "ct").iterdir())[0]
    one.write_bytes(one.read_bytes()[:-100])
    status, _, err = run("describe", tmp_path / "ct")
    assert (status, one.name in err, "cut short" in err) == (1, True, True)
