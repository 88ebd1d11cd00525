"""Segmentations, structure sets, cines, and objects without pixels: made by hand, read back."""

from __future__ import annotations

import numpy as np
import pytest
from matplotlib.path import Path as Polygon
from tests.formats.dicom_builder import IMPLICIT, elements, image

import spectrane as sp
from spectrane.display.slice_layers import prepared

POSITION, ORIENTATION = 0x00200032, 0x00200037
LYING = "1\\0\\0\\0\\1\\0"


def segmentation(segments, *, kind="BINARY", top=255, gap=3, allocated=1, more=(), syntax=None):
    """Return a file of {number: (name, color, {z: (rows, columns) shares})}."""
    frames, groups = [], []
    for number, (_, _, planes) in segments.items():
        for z, plane in planes.items():
            frames.append(np.asarray(plane))
            groups.append([
                (0x0062000A, "SQ", [[(0x0062000B, "US", number)]]),
                (0x00209113, "SQ", [[(POSITION, "DS", f"-10\\-20\\{z}")]]),
            ])  # fmt: skip
    shared = [[(0x00289110, "SQ", [[(0x00280030, "DS", "2\\1.5"), (0x00180050, "DS", str(gap))]]),
               (0x00209116, "SQ", [[(ORIENTATION, "DS", LYING)]])]]  # fmt: skip
    listed = [[(0x00620004, "US", number), (0x00620005, "LO", name),
               *([(0x0062000D, "US", color)] if color else [])]
              for number, (name, color, _) in segments.items()]  # fmt: skip
    stack = np.stack(frames)
    if allocated == 1:
        packed = np.packbits((stack > 0).ravel().astype("u1"), bitorder="little").tobytes()
    else:
        packed = stack.astype("u1").tobytes()
    packed += b"\0" * (len(packed) % 2)
    given = [(0x00080060, "CS", "SEG"), (0x00620001, "CS", kind), (0x00620002, "SQ", listed),
             (0x0062000E, "US", top), (0x52009229, "SQ", shared), (0x52009230, "SQ", groups),
             *more]  # fmt: skip
    return image(stack[0].astype("u1"), packed=packed, frames=len(frames), allocated=allocated,
                 bits=allocated, high=allocated - 1, vr="OB", more=given)  # fmt: skip


def blob(rng, shape=(9, 7)):
    return rng.random(shape) < 0.4


def test_binary_segments_open_as_labels_with_names_and_colours(rng, tmp_path):
    """Of sparse planes: what has no frame holds nothing."""
    first = {0: blob(rng), 3: blob(rng), 12: blob(rng)}
    second = {3: blob(rng) & ~first[3], 6: blob(rng)}
    path = tmp_path / "seg.dcm"
    path.write_bytes(segmentation({2: ("cannon bone", (65535, 32896, 32896), first),
                                   5: ("pastern", None, second)}))  # fmt: skip
    volume = sp.open(path)
    assert (volume.shape, volume.dtype, volume.title) == ((1, 7, 9, 5), np.uint8, "SEG series")
    assert volume.spacing == (1.5, 2.0, 3.0)
    names = {value: name for value, (_, name) in volume.look.classes.items()}
    assert names == {0.0: "background", 2.0: "cannon bone", 5.0: "pastern"}
    assert volume.look.classes[2.0][0] == "#ffffff"
    held = volume.voxels(physical=False)
    for k, z in enumerate((0, 3, 6, 9, 12)):
        wanted = np.where(first.get(z, False), 2, 0)
        wanted = np.where(second.get(z, np.zeros((9, 7), bool)), 5, wanted)
        np.testing.assert_array_equal(held[:, :, k].T, np.broadcast_to(wanted, (9, 7)))
    at = volume.affine @ (0, 0, 0, 1)
    assert at[:3].tolist() == [10.0, 20.0, 0.0]  # LPS to RAS+
    table = sp.volume_from_array(np.ones((7, 9, 5)), affine=volume.affine).statistics(by=volume)
    assert table.loc[(2, "band 1"), "name"] == "cannon bone"
    assert table.loc[(2, "band 1"), "voxels"] == (held == 2).sum()
    again = tmp_path / "labels.nii.gz"
    volume.save(again)
    assert sp.open(again).look.classes == volume.look.classes


def test_fractional_segments_take_the_larger_half_and_overlaps_are_told(rng, tmp_path):
    shares = rng.integers(0, 201, (2, 9, 7))
    path = tmp_path / "seg.dcm"
    path.write_bytes(segmentation({1: ("a", None, {0: shares[0]}), 2: ("b", None, {0: shares[1]})},
                                  kind="FRACTIONAL", top=200, allocated=8))  # fmt: skip
    held = sp.open(path).voxels(physical=False)[:, :, 0].T
    wanted = np.where(shares[0] >= 100, 1, 0)
    wanted = np.where((shares[1] >= 100) & (shares[1] >= np.where(wanted, shares[0], 0)), 2, wanted)
    np.testing.assert_array_equal(held, wanted)
    full = np.ones((9, 7), bool)
    path.write_bytes(segmentation({1: ("a", None, {0: full}), 4: ("b", None, {0: full})}))
    with pytest.warns(sp.DataWarning, match="segments overlap"):
        assert (sp.open(path).voxels(physical=False) == 4).all()


BROKEN = {
    "a number twice": lambda rng: segmentation(
        {1: ("a", None, {0: blob(rng)})}, more=[(0x00620002, "SQ", [[(0x00620004, "US", 1)]] * 2)]),
    "a segment that is not there": lambda rng: segmentation(
        {1: ("a", None, {0: blob(rng)})}, more=[(0x00620002, "SQ", [[(0x00620004, "US", 3)]])]),
    "uneven": lambda rng: segmentation(
        {1: ("a", None, {z: blob(rng) for z in (0, 3, 7.3, 11.9)})}),
}  # fmt: skip


@pytest.mark.parametrize("name", BROKEN)
def test_broken_segmentations_are_refused(rng, tmp_path, name):
    path = tmp_path / "seg.dcm"
    path.write_bytes(BROKEN[name](rng))
    with pytest.raises(sp.FormatError, match="SegmentNumber|not evenly spaced"):
        sp.open(path)


def ring(radius, center, z, turn=0.0, across=2):
    """Return points on a circle in a plane, in RAS+ mm."""
    angle = np.linspace(0, 2 * np.pi, 40, endpoint=False) + turn
    flat = np.stack([np.cos(angle), np.sin(angle)], 1) * radius + center
    return np.insert(flat, across, z, axis=1)


def numbers(points):
    return "\\".join(f"{value:.4f}" for value in points.ravel())


def structure_set(structures, *, syntax=None, modality="RTSTRUCT"):
    """Return a file of {number: (name, color, [points, …])}."""
    contours = []
    for number, (_, color, polygons) in structures.items():
        listed = [[(0x30060042, "CS", "CLOSED_PLANAR"), (0x30060046, "IS", str(len(points))),
                   (0x30060050, "DS", numbers(points * (-1, -1, 1)))]
                  for points in polygons]  # fmt: skip
        contours.append(
            [
                (0x30060084, "IS", str(number)),
                (0x30060040, "SQ", listed),
                *([(0x3006002A, "IS", "\\".join(map(str, color)))] if color else []),
            ]
        )
    named = [[(0x30060022, "IS", str(number)), (0x30060026, "LO", name)]
             for number, (name, _, _) in structures.items()]  # fmt: skip
    body = elements([(0x00080016, "UI", "1.2.840.10008.5.1.4.1.1.481.3"),
                     (0x00080060, "CS", modality), (0x30060020, "SQ", named),
                     (0x30060039, "SQ", contours)], IMPLICIT)  # fmt: skip
    meta = elements([(0x00020010, "UI", IMPLICIT)])
    meta = elements([(0x00020000, "UL", len(meta))]) + meta
    return bytes(128) + b"DICM" + meta + body


@pytest.mark.parametrize("across", [0, 1, 2])
def test_structures_are_outlines_in_mm_on_every_plane(tmp_path, across):
    """A ball of circles with a hole, and a smaller one inside the larger."""
    places = np.arange(-10, 11, 2.0)
    large = [ring(20, (5, -8), z, across=across) for z in places]
    hole = [ring(6, (5, -8), z, across=across) for z in places]
    small = [ring(4, (16, -8), z, across=across) for z in places[3:8]]
    path = tmp_path / "rs.dcm"
    path.write_bytes(structure_set({3: ("capsule", (255, 0, 9), large + hole),
                                    7: ("bone", None, small)}))  # fmt: skip
    volume = sp.open(path)
    assert volume.look.classes[3.0] == ("#ff0009", "capsule")
    assert volume.look.classes[7.0][1] == "bone"
    held = volume.voxels(physical=False)
    index = np.indices(held.shape).reshape(3, -1)
    mm = volume.affine[:3, :3] @ index + volume.affine[:3, 3:]
    along = [axis for axis in range(3) if axis != across]
    inside = Polygon(large[0][:, along]).contains_points(mm[along].T)
    inside &= ~Polygon(hole[0][:, along]).contains_points(mm[along].T)
    within = Polygon(small[0][:, along]).contains_points(mm[along].T)
    within &= (mm[across] > places[3] - 1) & (mm[across] < places[7] + 1)
    wanted = np.where(within, 7, np.where(inside, 3, 0)).reshape(held.shape)
    assert (held != wanted).mean() < 1e-3  # points on an edge may fall to either side
    anatomy = sp.volume_from_array(np.zeros((50, 50, 50), "u1"), affine=np.array(
        [[1, 0, 0, -20], [0, 1, 0, -32], [0, 0, 1, -25], [0, 0, 0, 1.0]]))  # fmt: skip
    ready = prepared([anatomy, volume])
    assert ready[1].layer.rims
    plain = sp.slice_picture([anatomy], "coronal", at=0.0, labels=False)
    drawn = sp.slice_picture([anatomy, volume], "coronal", at=0.0, labels=False)
    assert (plain.rgba != drawn.rgba).any()
    assert (plain.rgba != drawn.rgba).any(-1).mean() < 0.2  # lines and no areas


def test_broken_and_empty_structure_sets_are_refused(tmp_path):
    path = tmp_path / "rs.dcm"
    lean = ring(5, (0, 0), 0.0)
    lean[:, 2] += lean[:, 0] * 0.3
    flat = ring(5, (0, 0), 1)
    for structures, match in (
        ({}, "nothing to show"), ({1: ("a", None, [lean])}, "in no planes"),
        ({1: ("a", None, [flat[:2]])}, "three points"),
        ({99999: ("a", None, [flat])}, "expected 1 to"),
    ):  # fmt: skip
        path.write_bytes(structure_set(structures))
        with pytest.raises(sp.FormatError, match=match):
            sp.open(path)


def test_objects_without_pixels_are_told_and_stop_nothing(tmp_path, run):
    for k in range(3):
        more = [(POSITION, "DS", f"0\\0\\{k}"), (ORIENTATION, "DS", LYING),
                (0x00280030, "DS", "1\\1"), (0x00080018, "UI", f"1.{k}")]  # fmt: skip
        (tmp_path / f"{k}.dcm").write_bytes(image(np.zeros((4, 5), "i2"), more=more))
    (tmp_path / "rs.dcm").write_bytes(structure_set({1: ("a", None, [ring(5, (0, 0), 1)])}))
    (tmp_path / "report.dcm").write_bytes(structure_set({}, modality="SR"))
    rows = {row["path"].rsplit("/", 1)[-1]: row for row in sp.survey_rows(tmp_path)}
    assert rows[tmp_path.name]["planes"] == 3
    assert rows["rs.dcm"]["planes"] == 1
    assert rows["report.dcm"]["problem"] == ""
    assert rows["report.dcm"]["unusual"] == ("a structured report (SR) without pixels",)
    assert "no pixels" in run("survey", tmp_path)[1]
    assert sp.open(tmp_path).shape == (1, 5, 4, 3)


def ultrasound(frames, more=()):
    region = [(0x00186012, "US", 1), (0x00186014, "US", 1), (0x00186018, "UL", 0),
              (0x0018601A, "UL", 0), (0x0018601C, "UL", 9), (0x0018601E, "UL", 7),
              (0x00186024, "US", 3), (0x00186026, "US", 3), (0x0018602C, "FD", 0.05),
              (0x0018602E, "FD", 0.04)]  # fmt: skip
    given = [(0x00080060, "CS", "US"), (0x00186011, "SQ", [region]), *more]
    rng = np.random.default_rng(2)
    pixels = rng.integers(0, 255, (frames, 8, 10) if frames > 1 else (8, 10)).astype("u1")
    return pixels, image(pixels, more=given, frames=frames if frames > 1 else None)


def test_a_cine_is_frames_over_time_with_the_calibrated_spacing(tmp_path):
    path = tmp_path / "cine.dcm"
    for more, times in (
        ([(0x00280009, "AT", (0x0018, 0x1063)), (0x00181063, "DS", "40")], [0, 0.04, 0.08]),
        ([(0x00280009, "AT", (0x0018, 0x1065)), (0x00181065, "DS", "0\\30\\50")], [0, 0.03, 0.08]),
        ([(0x00180040, "IS", "20")], [0, 0.05, 0.1]),
    ):
        pixels, data = ultrasound(3, more)
        path.write_bytes(data)
        volume = sp.open(path)
        assert volume.shape == (3, 10, 8, 1)
        assert volume.spacing[:2] == pytest.approx((0.5, 0.4))
        assert [frame.time for frame in volume.frames] == pytest.approx(times)
        np.testing.assert_array_equal(volume.voxels(2)[:, :, 0].T, pixels[1])
    pixels, data = ultrasound(1)
    path.write_bytes(data)
    image_alone = sp.open(path)
    assert image_alone.grid.pixel_size == pytest.approx((0.5, 0.4))


REAL = {  # unit's code, what the rescale says -> scale, offset, unit
    "a map alone": ("[hnsf'U]", [], (0.5, -20.0, "HU")),
    "a unit as it is coded": ("mm2/s", [], (0.5, -20.0, "mm2/s")),
    "what the rescale tells stays": ("mm2/s", [(0x00281054, "LO", "HU")], (2.0, 1.0, "HU")),
}


@pytest.mark.parametrize("name", REAL)
@pytest.mark.parametrize("shared", [False, True])
def test_a_map_to_real_values_is_scale_and_unit(tmp_path, name, shared):
    code, more, expected = REAL[name]
    units = [[(0x00080100, "SH", code), (0x00080104, "LO", "unit")]]
    mapping = [(0x00409096, "SQ", [[(0x00409224, "FD", -20.0), (0x00409225, "FD", 0.5),
                                    (0x004008EA, "SQ", units)]])]  # fmt: skip
    held = [(0x52009229, "SQ", [mapping])] if shared else mapping
    given = [(0x00080060, "CS", "MR"), (0x00281053, "DS", "2"), (0x00281052, "DS", "1"), *held]
    path = tmp_path / "real.dcm"
    path.write_bytes(image(np.arange(12, dtype="u2").reshape(3, 4), more=[*given, *more]))
    band = sp.open(path).bands[0]
    assert (band.scale, band.offset, band.unit) == expected
