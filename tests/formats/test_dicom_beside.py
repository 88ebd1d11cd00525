"""Presentation states and files of maps to real values, which speak of images beside them."""

from __future__ import annotations

import pickle
import re
import zipfile

import fsspec
import numpy as np
import pytest
from tests.formats.dicom_builder import IMPLICIT, elements, image, plane

import spectrane as sp

SERIES, CHOSEN = 0x0020000E, 0x00081140
COUNT = 4


def numbers(k):
    return np.arange(12, dtype="u2").reshape(3, 4) * 10 + k


def series(folder, *, rescale=(2.0, 1.0), more=(), count=COUNT):
    """Write slices of an MR series, whose rescale names no unit."""
    for k in range(count):
        given = [(0x00080060, "CS", "MR"), (SERIES, "UI", "1.7"), (0x00200011, "IS", "5"),
                 (0x00281053, "DS", str(rescale[0])), (0x00281052, "DS", str(rescale[1])),
                 *more]  # fmt: skip
        (folder / f"{k}.dcm").write_bytes(image(numbers(k), more=plane(k, more=given)))


def images(which):
    return (CHOSEN, "SQ", [[(0x00081155, "UI", f"1.2.3.4.{k}")] for k in which])


def beside(modality, given):
    """Return an object without pixels."""
    body = elements([(0x00080060, "CS", modality), (0x00080018, "UI", "1.9"), *given], IMPLICIT)
    meta = elements([(0x00020010, "UI", IMPLICIT)])
    return bytes(128) + b"DICM" + elements([(0x00020000, "UL", len(meta))]) + meta + body


def state(*windows, which=(), more=(), uid="1.7"):
    """Return a presentation state with windows (center, width, function, images)."""
    listed = [
        [(0x00281050, "DS", str(center)), (0x00281051, "DS", str(width)),
         (0x00281056, "CS", function), *([images(of)] if of else [])]
        for center, width, function, of in windows
    ]  # fmt: skip
    refers = [(SERIES, "UI", uid), *([images(which)] if which else [])]
    return beside("PR", [(0x00081115, "SQ", [refers]), (0x00283110, "SQ", listed),
                         (0x00700080, "CS", "TENDON"), *more])  # fmt: skip


def linear(x, c, w):
    """PS3.3 C.11.2.1.2.1, as it stands there."""
    if x <= c - 0.5 - (w - 1) / 2:
        return 0.0
    return 1.0 if x > c - 0.5 + (w - 1) / 2 else (x - (c - 0.5)) / (w - 1) + 0.5


SAME = [(0x00281053, "DS", "2"), (0x00281052, "DS", "1")]
STATES = {  # windows, more, what the window speaks of (slope, intercept), inverted
    "of the images' own values": ([(90, 100, "LINEAR", ())], SAME, (2, 1), False),
    "of stored numbers": ([(60, 41, "LINEAR", ())], [], (1, 0), False),
    "of numbers scaled otherwise": ([(20, 30, "LINEAR", ())], [(0x00281053, "DS", "0.5")],
                                    (0.5, 0), False),
    "inverse": ([(90, 100, "LINEAR", ())], [*SAME, (0x20500020, "CS", "INVERSE")], (2, 1), True),
    "of this image among others": ([(9, 5, "LINEAR", (0,)), (90, 100, "LINEAR", (2, 3))], SAME,
                                   (2, 1), False),
}  # fmt: skip


@pytest.mark.parametrize("name", STATES)
def test_a_state_opens_its_images_as_it_says(tmp_path, name):
    """Levels are those of the standard's own formula on the numbers that the state speaks of."""
    windows, more, (slope, intercept), inverted = STATES[name]
    series(tmp_path)
    path = tmp_path / "state.dcm"
    path.write_bytes(state(*windows, more=more))
    volume = sp.open(path)
    assert (volume.shape, volume.title) == ((1, 4, 3, COUNT), "MR series 5")
    assert volume.windows[0].explanation == "TENDON"
    drawn = sp.render(volume.slice("axial", index=2, side="neurological")).rgba[..., 0]
    center, width = windows[-1][:2]
    stored = volume.voxels(physical=False)[0, :, :, 2] if volume.voxels().ndim == 4 else (
        volume.voxels(physical=False)[:, :, 2])  # fmt: skip
    wanted = np.vectorize(lambda x: linear(x * slope + intercept, center, width))(stored.data)
    wanted = np.floor((1 - wanted if inverted else wanted) * 255 + 0.5)
    assert sorted(drawn.ravel().tolist()) == sorted(wanted.ravel().tolist())
    assert len(set(wanted.ravel().tolist())) > 1


def test_in_a_folder_states_are_further_windows(tmp_path, run):
    own = [(0x00281050, "DS", "70"), (0x00281051, "DS", "200")]
    series(tmp_path, more=own)
    (tmp_path / "state.dcm").write_bytes(
        state((90, 100, "LINEAR", ()), more=[*SAME, (0x20500020, "CS", "INVERSE")]))  # fmt: skip
    (tmp_path / "other.dcm").write_bytes(state((1, 2, "LINEAR", ()), uid="1.8"))
    volume = sp.open(tmp_path)
    assert [window.center for window in volume.windows] == [70, 90]
    assert volume.metadata["presentation states"] == [
        "window 2 is of a presentation state, to be shown inverted"]  # fmt: skip
    assert volume.look.limits[0].called == "1"
    assert "TENDON" in run("describe", tmp_path)[1]
    rows = {row["path"].rsplit("/", 1)[-1]: row for row in sp.survey_rows(tmp_path)}
    of = "of MR series 5 (4 slices); it opens them as it says"
    assert rows["state.dcm"]["unusual"] == (f"a presentation state (PR) {of}",)
    assert rows["other.dcm"]["unusual"] == ("a presentation state (PR) without pixels",)


def test_a_state_of_some_images_opens_those_alone_and_says_what_it_does_not_show(tmp_path):
    series(tmp_path)
    path = tmp_path / "state.dcm"
    path.write_bytes(state((90, 100, "LINEAR", ()), which=[1], more=[*SAME, (0x00181600, "CS",
                     "CIRCULAR"), (0x00700042, "US", 90)]))  # fmt: skip
    with pytest.warns(sp.DataWarning, match="state: a shutter, turning"):
        alone = sp.open(path)
    assert isinstance(alone, sp.Raster)
    np.testing.assert_array_equal(alone.pixels()[0], numbers(1))
    path.write_bytes(state((90, 100, "LINEAR", ()), which=[1, 2, 17], more=SAME))
    with pytest.warns(sp.DataWarning, match="of 3 images, of which 1 are not beside it"):
        assert sp.open(path).shape == (1, 4, 3, 2)
    path.write_bytes(state((90, 100, "LINEAR", ()), uid="1.8"))
    with pytest.raises(sp.FormatError, match="put it into their folder"):
        sp.open(path)


def a_map(slope=None, intercept=0.0, code="{SUVbw}g/ml", label="", table=None, first=0):
    units = [[(0x00080100, "SH", code)]]
    given = [(0x004008EA, "SQ", units), (0x00409210, "SH", label)]
    if table is None:
        return [*given, (0x00409224, "FD", intercept), (0x00409225, "FD", slope)]
    return [*given, (0x00409212, "FD", table), (0x00409216, "US", first)]


def maps(each):
    """Return a file of maps: {image: [map, …]}."""
    items = [[images([k]), (0x00409096, "SQ", some)] for k, some in each.items()]
    return beside("RWV", [(0x00409094, "SQ", items)])


EVERY = range(COUNT)
MAPS = {  # per image the maps, member, real values of (stored numbers, image), unit
    "one slope": ({k: [a_map(0.25, 3.0)] for k in EVERY}, None, lambda x, k: x * 0.25 + 3, "SUV"),
    "a slope each": ({k: [a_map(k + 0.5)] for k in EVERY}, None, lambda x, k: x * (k + 0.5), "SUV"),
    "the second": ({k: [a_map(9.0, label="body"), a_map(0.1, code="mm2/s", label="lean")]
                    for k in EVERY}, "lean", lambda x, k: x * 0.1, "mm2/s"),
    "a table": ({k: [a_map(table=np.arange(60) ** 1.5, first=2, code="mm")] for k in EVERY}, None,
                lambda x, k: np.where((x >= 2) & (x < 62), np.abs(x - 2.0) ** 1.5, np.nan), "mm"),
}  # fmt: skip


@pytest.mark.parametrize("name", MAPS)
def test_a_file_of_maps_opens_its_images_in_real_values(tmp_path, name):
    each, member, real, unit = MAPS[name]
    series(tmp_path)
    path = tmp_path / "map.dcm"
    path.write_bytes(maps(each))
    volume = sp.open(path, member=member)
    held = volume.voxels().filled(np.nan)
    for k in EVERY:
        np.testing.assert_allclose(held[:, :, k].T, real(numbers(k).astype(float), k), rtol=1e-6)
    assert volume.frames[0].unit == unit
    assert "map to real values" in str(volume.describe())
    several = len(each[0]) > 1
    assert sp.members(path)["name"].tolist() == (["body", "lean"] if several else [unit])
    if several:  # neither is meant before the other
        assert sp.open(tmp_path).frames[0].unit is None
    else:
        np.testing.assert_allclose(sp.open(tmp_path).voxels().filled(np.nan), held)


def test_a_map_beside_images_does_not_displace_the_unit_they_tell(tmp_path):
    series(tmp_path, more=[(0x00281054, "LO", "HU")])
    path = tmp_path / "map.dcm"
    path.write_bytes(maps({k: [a_map(0.25)] for k in EVERY}))
    assert sp.open(tmp_path).frames[0].unit == "HU"
    assert sp.open(path).frames[0].unit == "SUV"
    path.write_bytes(maps({0: [a_map(0.25)], 1: [a_map(0.0)]}))
    with pytest.raises(sp.FormatError, match="says nothing of"):
        sp.open(path)


@pytest.mark.parametrize("function", ["LINEAR", "LINEAR_EXACT", "SIGMOID"])
def test_windows_are_of_the_rescaled_numbers_and_not_of_a_maps_values(tmp_path, function):
    """A window stands in the image beside a map: the picture is the same as without the map."""
    own = [(0x00281050, "DS", "90"), (0x00281051, "DS", "100"), (0x00281056, "CS", function)]
    pictures = []
    for more in ([], [(0x00409096, "SQ", [a_map(0.01, -7.0, "mm2/s")])]):
        series(tmp_path, more=[*own, *more])
        opened = sp.open(tmp_path / "1.dcm")
        pictures.append(sp.render(opened).rgba)
    assert opened.bands[0].unit == "mm2/s"
    np.testing.assert_array_equal(*pictures)
    assert len(np.unique(pictures[0][..., 0])) > 4


@pytest.mark.parametrize("where", ["zip", "memory"])
def test_a_folder_of_slices_in_a_storage_is_the_volume_it_is_here(tmp_path, where):
    here, pack = tmp_path / "in", tmp_path / "pack.zip"
    here.mkdir()
    series(here)
    (here / "tendon.dcm").write_bytes(state((90, 100, "LINEAR", ())))
    (here / "broken.dcm").write_bytes((here / "0.dcm").read_bytes()[:300])
    (here / "copy.dcm").write_bytes((here / "1.dcm").read_bytes())
    (here / "again.dcm").write_bytes((here / "1.dcm").read_bytes())
    (here / "notes.txt").write_text("none of its slices")
    with zipfile.ZipFile(pack, "w") as file:
        for one in here.iterdir():
            file.write(one, f"scans/{one.name}")
            fsspec.filesystem("memory").pipe(f"/scans/{one.name}", one.read_bytes())
    top, inside = ("memory://scans", "memory://scans/{}") if where == "memory" else (
        f"zip://scans::{pack}", f"zip://scans/{{}}::{pack}")  # fmt: skip
    listed, wanted = (sp.survey(place) for place in (top, here))
    for column in ("format", "bytes", "planes", "unusual"):
        assert listed[column].equals(wanted[column]), column
    assert listed["path"].tolist() == [
        top,
        inside.format("tendon.dcm"),
        inside.format("broken.dcm"),
    ]
    assert "at byte" in listed["problem"].iloc[-1]
    with pytest.raises(sp.FormatError, match=re.escape(inside.format("broken.dcm"))):
        sp.open(top)
    with pytest.warns(UserWarning, match=r"2 duplicates left out: again\.dcm is a copy of 1\.dcm"):
        shown, same = (sp.open_volume(place) for place in
                       (inside.format("tendon.dcm"), here / "tendon.dcm"))  # fmt: skip
    assert (shown.look, shown.windows) == (same.look, same.windows)
    (here / "broken.dcm").unlink()
    fsspec.filesystem("memory").rm("/scans/broken.dcm")
    if where == "memory":
        with pytest.warns(UserWarning, match="2 duplicates"):
            volume = sp.open_volume(top)
        for one in (volume, pickle.loads(pickle.dumps(volume))):
            np.testing.assert_array_equal(one.voxels(), same.voxels())
            assert (one.title, one.affine.tolist()) == ("MR series 5", same.affine.tolist())
        assert sp.members(top)["name"].tolist() == ["MR series 5 (6 slices)"]
