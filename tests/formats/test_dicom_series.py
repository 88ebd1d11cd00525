"""DICOM series and images of many frames: sorted by place, told what is odd, placed in RAS+."""

from __future__ import annotations

import json
import pickle

import numpy as np
import pytest
from dicom_builder import EXPLICIT, element, encapsulated, image, plane

import spectrane as sp

VALUES = np.random.default_rng(5).integers(0, 900, (5, 3, 4)).astype(np.int16)
RESCALE = [(0x00281052, "DS", "-1024"), (0x00281053, "DS", "1")]


@pytest.fixture
def folder(tmp_path):
    """Write slices in an order that their names and numbers do not tell."""

    def write(planes, values=VALUES, **options):
        for k, more in enumerate(planes):
            name = f"{(k * 7 + 3) % 11:02d}_{k}"
            (tmp_path / name).write_bytes(image(values[k % len(values)], more=more, **options))
        return tmp_path

    return write


def turned(degrees):
    """Return directions of rows and columns turned about the patient's left-right axis."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return {"row": (1, 0, 0), "column": (0, c, s), "step": (0, -2 * s, 2 * c)}


ORIENTATIONS = [
    ({}, ("right to left", "anterior to posterior", "inferior to superior")),
    ({"step": (0, 0, -2)}, ("right to left", "anterior to posterior", "inferior to superior")),
    ({"row": (0, 1, 0), "column": (0, 0, -1), "step": (2, 0, 0)},
     ("anterior to posterior", "superior to inferior", "left to right")),
    ({"row": (-1, 0, 0), "column": (0, 0, -1), "step": (0, 2, 0)},
     ("left to right", "superior to inferior", "posterior to anterior")),
    (turned(20), ("right to left", "anterior to posterior", "inferior to superior")),
    ({"step": (0, 0.5, 2)}, ("right to left", "anterior to posterior", "inferior to superior")),
]  # fmt: skip


@pytest.mark.parametrize(("placing", "ways"), ORIENTATIONS)
def test_slices_are_sorted_by_place_and_lie_where_their_elements_say(folder, placing, ways):
    volume = sp.open(folder([plane(k, more=RESCALE, **placing) for k in range(5)]))
    assert volume.shape == (1, 4, 3, 5)
    assert tuple(volume.describe().to_dict()["directions"]) == ways
    options = {"origin": (-10.0, -20.0, 30.0), "row": (1, 0, 0), "column": (0, 1, 0),
               "step": (0, 0, 2)} | placing  # fmt: skip
    voxels = volume.voxels(physical=False)
    for k, j, i in ((0, 0, 0), (3, 1, 2), (4, 2, 3)):
        lps = (
            np.array(options["origin"])
            + k * np.array(options["step"])
            + 0.8 * i * np.array(options["row"])
            + 0.5 * j * np.array(options["column"])
        )
        x, y, z = lps * (-1, -1, 1)
        found = sp.probe(volume, x=x, y=y, z=z).iloc[0]
        assert (found["stored"], found["physical"]) == (VALUES[k, j, i], VALUES[k, j, i] - 1024)
        where = np.linalg.inv(volume.affine) @ (x, y, z, 1)
        assert voxels[tuple(np.round(where[:3]).astype(int))] == VALUES[k, j, i]


def test_a_leaning_gantry_is_told_and_sheared_right(folder):
    volume = sp.open(folder([plane(k, step=(0, 1, 2)) for k in range(5)]))
    assert "slices 2 mm apart lean by 26.57 degrees" in volume.metadata["placed by"]
    assert volume.affine[:3, 2].tolist() == [0, -1, 2]
    again = pickle.loads(pickle.dumps(volume))
    np.testing.assert_array_equal(again.voxels(physical=False, k=(2, 4), i=(1, 3)),
                                  VALUES[2:4, :, 1:3].transpose(2, 1, 0))  # fmt: skip


def test_copies_are_left_out_and_told(folder):
    with pytest.warns(sp.DataWarning, match=r"1 duplicate left out: 0\d_. is a copy of 0"):
        volume = sp.open(folder([plane(k) for k in (0, 1, 2, 3, 4, 4)]))
    assert volume.shape == (1, 4, 3, 5)


@pytest.mark.parametrize(("gap", "even"), [(1.009, True), (0.991, True), (1.011, False)])
def test_gaps_within_a_hundredth_are_even(folder, gap, even):
    path = folder([plane(k) for k in (0, 1, 1 + gap, 2 + gap, 3 + gap)])
    if even:
        assert sp.open(path).spacing[2] == pytest.approx(2 * (3 + gap) / 4)
    else:
        with pytest.raises(sp.FormatError, match="gaps from 2 to"):
            sp.open(path)


GAPS = [
    ([0, 1, 2, 4, 5], "1 is missing, between"),
    ([0, 1, 3, 6, 7], "3 are missing, between"),
    ([0, 1, 2.3, 3.3, 4.3], r"gaps from 2 to 2.6 mm"),
]


@pytest.mark.parametrize(("places", "match"), GAPS)
def test_uneven_slices_are_refused_with_their_places(folder, places, match):
    path = folder([plane(k) for k in places])
    with pytest.raises(sp.FormatError, match=match) as caught:
        sp.open(path)
    assert f"  {len(places)}: {30 + 2 * places[-1]:g} mm, 09_4" in str(caught.value)
    with pytest.warns(sp.DataWarning, match="2 mm apart"):
        assert sp.open(path, spacing="nominal").shape == (1, 4, 3, 5)
    with pytest.warns(sp.DataWarning, match="interpolated"):
        even = sp.open(path, spacing="resample")
    depth = np.arange(even.shape[3]) * 2.0
    read = even.voxels(physical=False).astype(float)
    known = np.array(places) * 2.0
    for j, i in ((0, 0), (2, 3)):
        wanted = np.floor(np.interp(depth, known, VALUES[:, j, i]) + 0.5)
        np.testing.assert_allclose(read[i, j], wanted, atol=1)  # a half may fall either way
    assert even.spacing[2] == 2.0
    with pytest.warns(sp.DataWarning, match="interpolated"):
        sp.amend(path, spacing="resample")  # said once, and for all
    with pytest.warns(sp.DataWarning, match="interpolated"):
        assert sp.open(path).shape == even.shape


ODD = [
    ({"spacing": (0.5, 0.9)}, {}, r"09_4: PixelSpacing \(0028,0030\) is 0.5\\0.9; 4 of the 5"),
    ({"row": (0, 1, 0), "column": (-1, 0, 0)}, {}, r"09_4: ImageOrientationPatient"),
    ({}, {"without": {0x00200032}}, r"09_4: ImagePositionPatient \(0020,0032\) is missing"),
    ({}, {"without": {0x00280030}}, r"09_4: PixelSpacing \(0028,0030\) is missing; 4 of the 5"),
    ({}, {"without": {0x00200037}}, r"09_4: ImageOrientationPatient \(0020,0037\) is missing"),
    ({}, {"values": VALUES[:, :, :3]}, r"09_4: Columns \(0028,0011\) is 3; 4 of the 5"),
    ({"origin": (-10, -23, 30)}, {}, "09_4: ImagePositionPatient.* lies 3 mm off the line"),
]


@pytest.mark.parametrize(("placing", "options", "match"), ODD)
def test_a_slice_that_does_not_belong_is_named(folder, tmp_path, placing, options, match):
    folder([plane(k) for k in range(4)])
    values = options.pop("values", VALUES)
    (tmp_path / "09_4").write_bytes(image(values[4], more=plane(4, **placing), **options))
    with pytest.raises(sp.FormatError, match=match):
        sp.open(tmp_path)


def directory():
    """Return a media directory: no pixels, and a class of its own."""
    meta = element(0x00020002, "UI", "1.2.840.10008.1.3.10") + element(0x00020010, "UI", EXPLICIT)
    return bytes(128) + b"DICM" + meta + element(0x00041130, "CS", "DISC")


def test_what_is_packed_strangely_is_left_out_and_told(folder, tmp_path):
    folder([plane(k) for k in range(4)])
    (tmp_path / "video").write_bytes(image(VALUES[0], syntax="1.2.840.10008.1.2.4.102", packed=b""))
    with pytest.warns(sp.DataWarning, match=r"1 files are packed.*video \(1.2.840"):
        assert sp.open(tmp_path).shape == (1, 4, 3, 4)
    (tmp_path / "below").mkdir()
    with pytest.raises(sp.FormatError, match=r"spectrane survey .*below"):
        sp.open(tmp_path / "below")


def test_directions_that_differ_in_their_last_digit_are_alike(folder):
    tilt = [{"row": (1, 0, 0), "column": (0, 0.707499, 0.706714)},
            {"row": (1, 0, 0), "column": (0, 0.707501, 0.706712)}]  # fmt: skip
    step = (0, -0.706713 * 2, 0.7075 * 2)
    planes = [plane(k, step=step, spacing=(0.4882815 - k * 1e-7, 0.5), **tilt[k % 2])
              for k in range(5)]  # fmt: skip
    assert sp.open(folder(planes)).shape == (1, 4, 3, 5)


def test_series_of_one_folder_are_members(folder, tmp_path, run):
    folder([plane(k) for k in range(5)])
    other = [(0x0020000E, "UI", "9.9"), (0x00200011, "IS", "2"), (0x00080060, "CS", "MR")]
    for k in range(2):
        (tmp_path / f"a{k}").write_bytes(image(VALUES[k, :2], more=plane(k, more=other)))
    (tmp_path / "notes.txt").write_text("not an image")
    (tmp_path / "DICOMDIR").write_bytes(directory())
    (tmp_path / "report").write_bytes(image(VALUES[0], vr="OB").split(b"\xe0\x7f\x10\0")[0])
    with pytest.raises(sp.FormatError, match="without pixel data"):
        sp.open(tmp_path / "report")
    with pytest.raises(sp.FormatError, match="directory of media"):
        sp.open(tmp_path / "DICOMDIR")
    listed = sp.members(tmp_path)
    assert listed["name"].tolist() == ["CT series 0 (5 slices)", "MR series 2 (2 slices)"]
    with pytest.warns(sp.DataWarning, match="holds 2 series; CT series 0"):
        assert sp.open(tmp_path).shape == (1, 4, 3, 5)
    assert sp.open(tmp_path, member=2).shape == (1, 4, 2, 2)
    status, out, _ = run("describe", tmp_path, "--member", "2", "--json")
    assert status == 0
    assert json.loads(out)["results"][0]["voxels"] == [4, 2, 2]
    with pytest.raises(sp.FormatError, match="no member 3"):
        sp.open(tmp_path, member=3)


TIMES = [
    ([(0x00200100, "IS", "{t}")], ["time 1", "time 2"]),
    ([(0x00180081, "DS", "{t}.5")], ["echo 1.5 ms", "echo 2.5 ms"]),
    ([(0x00181060, "DS", "{t}50")], ["150 ms", "250 ms"]),
    ([(0x00189087, "FD", None)], ["b 100", "b 200"]),
]


@pytest.mark.parametrize(("keys", "names"), TIMES)
def test_what_lies_at_one_place_over_time_is_frames(folder, keys, names):
    planes = []
    for k in range(2):
        for t in (2, 1):
            more = [(tag, vr, 100.0 * t if value is None else value.format(t=t))
                    for tag, vr, value in keys]  # fmt: skip
            planes.append([*plane(k), *more, (0x00080018, "UI", f"1.{k}.{t}")])
    volume = sp.open(folder(planes, VALUES[:4]))
    assert [frame.name for frame in volume.frames] == names
    times = [0.15, 0.25] if names[0] == "150 ms" else [None, None]
    assert [frame.time for frame in volume.frames] == times
    np.testing.assert_array_equal(volume.voxels(1, physical=False)[..., 1], VALUES[3].T)
    np.testing.assert_array_equal(volume.voxels(names[1], physical=False)[..., 0], VALUES[0].T)


def test_slopes_that_differ_from_slice_to_slice_give_physical_values(folder):
    planes = [
        plane(
            k,
            more=[
                (0x00281053, "DS", f"{k + 1}"),
                (0x00281052, "DS", "0.5"),
                (0x00280120, "SS", int(VALUES[k, 0, 0])),
            ],
        )
        for k in range(3)
    ]
    with pytest.warns(sp.DataWarning, match="differ from slice to slice"):
        volume = sp.open(folder(planes, VALUES[:3]))
    read = volume.voxels()
    assert volume.dtype == "float32"
    assert read[1, 1, 2] == VALUES[2, 1, 1] * 3 + 0.5
    assert read.mask[0, 0, 1]


def enhanced(order, *, shared=True, values=VALUES, packed=None, **options):
    """Return an enhanced multi-frame image whose frames lie in the order given."""
    directions = [
        (0x00209116, "SQ", [[(0x00200037, "DS", "1\\0\\0\\0\\1\\0")]]),
        (0x00289110, "SQ", [[(0x00280030, "DS", "0.5\\0.8")]]),
        (0x00289145, "SQ?", [[*RESCALE, (0x00281054, "LO", "HU")]]),
        (0x00289132, "SQ", [[(0x00281050, "DS", "40"), (0x00281051, "DS", "400")]]),
    ]
    frames = [[(0x00209113, "SQ", [[(0x00200032, "DS", f"-10\\-20\\{30 + 2 * k}")]]),
               *([] if shared else directions)] for k in order]  # fmt: skip
    more = [(0x52009230, "SQ", frames), *options.pop("more", ())]
    more += [(0x52009229, "SQ?", [directions])] if shared else []
    return image(values[list(order)], frames=len(frames), more=more, packed=packed, **options)


@pytest.mark.parametrize("shared", [True, False])
def test_frames_of_one_file_are_placed_by_their_groups(tmp_path, shared):
    (tmp_path / "many.dcm").write_bytes(enhanced([2, 0, 4, 1, 3], shared=shared))
    volume = sp.open(tmp_path / "many.dcm")
    np.testing.assert_array_equal(volume.voxels(physical=False), VALUES.transpose(2, 1, 0))
    np.testing.assert_array_equal(volume.voxels(), VALUES.transpose(2, 1, 0) - 1024.0)
    assert volume.affine[:, 3].tolist() == [10, 20, 30, 1]
    assert volume.frames[0].unit == "HU"
    assert volume.windows[0].center == 40
    assert volume.window == (-160.0, 239.0)


def test_offsets_along_the_normal_place_doses(tmp_path):
    offsets = (0x3004000C, "DS", "0\\3\\6\\9\\12")
    more = [*plane(0), offsets, (0x3004000E, "DS", "0.01"), (0x30040002, "CS", "GY")]
    (tmp_path / "dose").write_bytes(image(VALUES.astype(np.uint32), frames=5, more=more))
    volume = sp.open(tmp_path / "dose")
    assert volume.spacing[2] == 3
    assert volume.frames[0].unit == "Gy"
    np.testing.assert_allclose(volume.voxels(), VALUES.transpose(2, 1, 0) * 0.01, rtol=1e-6)


def test_colour_frames_without_a_place_are_stacked_and_told(tmp_path):
    frames = np.random.default_rng(1).integers(0, 256, (3, 4, 5, 3)).astype(np.uint8)
    (tmp_path / "cine").write_bytes(image(frames, photometric="RGB", frames=3))
    with pytest.warns(sp.DataWarning, match="not known"):
        volume = sp.open(tmp_path / "cine")
    np.testing.assert_array_equal(volume.voxels("green", physical=False), frames[..., 1].T)


def test_without_a_place_no_side_is_claimed(tmp_path):
    (tmp_path / "cine").write_bytes(image(VALUES, frames=5))
    with pytest.warns(sp.DataWarning, match="not known"):
        volume = sp.open(tmp_path / "cine")
    said = str(volume.describe())
    assert "Place     not known" in said
    assert "Reaches" not in said
    layer = [sp.VolumeLayer(volume, sp.Look(limits=(-9000, -8000)))]
    named = sp.slice_picture(layer, at=1.0, size=(200, 300)).rgba
    half = named.shape[0] // 2
    assert (named[half - 20 : half + 20, :15, :3] == 255).all()  # no letter at the edge
    known = sp.volume_from_array(np.zeros((4, 3, 5)), affine=np.diag([-1, -1, 1, 1]))
    layer = [sp.VolumeLayer(known, sp.Look(limits=(-9, -8)))]
    lettered = sp.slice_picture(layer, at=1.0, size=(200, 300)).rgba
    assert not (lettered[half - 20 : half + 20, :15, :3] == 255).all()
    with pytest.raises(sp.FormatError, match="DICOM is read, not written"):
        volume.save(tmp_path / "out.dcm")


def test_what_is_taken_for_granted_is_told(tmp_path):
    bare = [one for one in plane(0) if one[0] != 0x00280030]
    (tmp_path / "one").write_bytes(image(VALUES[0], more=bare))
    with pytest.warns(sp.DataWarning) as told:
        volume = sp.open(tmp_path)
    said = " ".join(str(one.message) for one in told)
    assert "no PixelSpacing (0028,0030)" in said
    assert "without a thickness" in said
    assert (volume.shape, volume.spacing) == ((1, 4, 3, 1), (1, 1, 1))


def test_places_that_jitter_are_one_place(folder):
    thick = (0x00180050, "DS", "2")
    planes = [[*plane(k, origin=(-10, -20, 30 + 0.004 * t), more=[thick]),
               (0x00200100, "IS", str(t)), (0x00080018, "UI", f"1.{k}.{t}")]
              for k in range(2) for t in (1, 2)]  # fmt: skip
    assert sp.open(folder(planes, VALUES[:4])).shape == (2, 4, 3, 2)


def test_windows_of_single_slices_are_the_middle_ones(folder):
    def windowed(k):
        return [(0x00281050, "DS", f"{100 * k}"), (0x00281051, "DS", "50")]

    volume = sp.open(folder([plane(k, more=windowed(k)) for k in range(5)]))
    assert volume.windows[0].center == 200


NAMES = [(0x00100010, "PN", "Doe^Jane"), (0x00100020, "LO", "77-XYZ"),
         (0x00100030, "DA", "20010203"), (0x0008103E, "LO", "Jane's foot"),
         (0x00090010, "LO", "ACME"), (0x00091001, "LO", "Doe at home"),
         (0x00400275, "SQ", [[(0x00401001, "SH", "REQ-Doe")]])]  # fmt: skip


def test_identity_is_kept_for_programs_and_shown_only_when_asked(folder, tmp_path, run, recwarn):
    path = folder([plane(k, more=[*RESCALE, *NAMES]) for k in range(5)])
    volume = sp.open(path)
    assert volume.metadata["PatientName"] == "Doe^Jane"
    assert {"PatientName", "PatientID", "SeriesDescription"} <= set(volume.identity)
    target = tmp_path.parent / "out.png"
    commands = (
        ("describe", path), ("describe", path, "--metadata"), ("describe", path, "--json"),
        ("describe", path, "--metadata", "--json"), ("describe", path, "--members"),
        ("survey", path), ("survey", path, "--json"), ("probe", path, "--voxel-at", "1,1,1"),
        ("slices", path, "-o", target, "--overwrite", "--json"),
    )  # fmt: skip
    for command in commands:
        status, out, err = run(*command)
        assert status == 0, err
        for secret in ("Doe", "77-XYZ", "20010203", "Jane", "REQ"):
            assert secret not in out + err, (command, secret)
    assert b"Doe" not in target.read_bytes()
    assert b"77-XYZ" not in target.read_bytes()
    assert "PatientName, PatientID" in run("describe", path)[1].replace("\n", " ")
    assert "Doe^Jane" in run("describe", path, "--identity")[1]
    assert "REQ-Doe" in run("describe", path, "--identity", "--metadata")[1]
    shown = json.loads(run("describe", path, "--identity", "--json")[1])["results"][0]
    assert shown["identity_values"]["PatientID"] == "77-XYZ"
    assert "Doe" not in repr(volume) + str(volume.describe()) + volume.describe()._repr_html_()


def test_packed_series_decode_each_slice_once(tmp_path, monkeypatch):
    import imagecodecs

    from spectrane.formats.dicom import frames

    calls = []
    monkeypatch.setattr(
        frames.imagecodecs,
        "jpegls_decode",
        lambda data, plain=imagecodecs.jpegls_decode: calls.append(1) or plain(data),
    )
    for k in range(5):
        packed = encapsulated([imagecodecs.jpegls_encode(VALUES[k].view(np.uint16))])
        data = image(VALUES[k], more=plane(k), packed=packed, syntax="1.2.840.10008.1.2.4.80")
        (tmp_path / f"{k}").write_bytes(data)
    volume = sp.open(tmp_path)
    assert not calls
    for _ in range(2):
        np.testing.assert_array_equal(volume.voxels(physical=False), VALUES.transpose(2, 1, 0))
    volume.slice("coronal", index=1).pixels()
    assert len(calls) == 5
