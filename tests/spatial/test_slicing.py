"""Slices: which way is up, where each millimetre lies, nothing mixed in that is invalid."""

from __future__ import annotations

import itertools

import numpy as np
import pytest
from scipy.ndimage import map_coordinates

import spectrane as sp
from spectrane.kernels import slicing
from spectrane.model.patient import aligned_axes, reach
from spectrane.model.physical import as_stored
from spectrane.model.source import source_of
from spectrane.spatial.slicing import PLANES, SlicePlane


def test_trilinear_is_its_definition(form, rng):
    cube = rng.normal(50, 20, (9, 8, 7)).astype("f4")
    origin, down, across = np.array([0.3, -1.2, 0.5]), np.array([0.5, 0.4, 0.1]), np.array(
        [0.2, -0.1, 0.45])  # fmt: skip
    out = np.empty((20, 18), "f4")
    slicing.trilinear.choose(1)(cube, origin, down, across, out)
    r, c = np.mgrid[:20, :18]
    at = [o + r * d + c * a for o, d, a in zip(origin, down, across, strict=True)]
    plain = map_coordinates(cube, at, order=1, mode="nearest")
    inside = np.all([(p >= -0.5) & (p <= n - 0.5) for p, n in zip(at, cube.shape, strict=True)], 0)
    np.testing.assert_array_equal(np.isfinite(out), inside)
    np.testing.assert_allclose(out[inside], plain[inside], rtol=1e-4)
    holed = cube.copy()
    holed[3:6, 2:5, 2:5] = np.nan
    slicing.trilinear.choose(1)(holed, origin, down, across, out)
    for i, j in itertools.product(range(0, 20, 3), range(0, 18, 3)):
        place = [float(p[i, j]) for p in at]
        wanted = point(holed, place)
        assert np.isnan(wanted) == np.isnan(out[i, j])
        if np.isfinite(wanted):
            assert out[i, j] == pytest.approx(wanted, rel=1e-4)


@pytest.mark.parametrize("order", list(itertools.permutations(range(3))))
def test_planes_along_the_axes_are_trilinear_too(rng, order):
    deep, rows, columns = order
    for spread, start in itertools.product((1.0, -0.37, 1.9), (-0.5, 2.0, 3.25, -0.7)):
        cube = rng.normal(50, 20, (9, 8, 7)).astype("f4")
        origin = np.full(3, 0.0 if spread > 0 else 6.4)
        origin[deep] = start
        down, across = np.zeros(3), np.zeros(3)
        down[rows], across[columns] = spread, 0.8 * spread
        out, wanted = np.full((2, 12, 11), -1, "f4")
        assert slicing.along_axes(cube, origin, down, across, out)
        slicing.trilinear_reference(cube, origin, down, across, wanted)
        np.testing.assert_allclose(out, wanted, rtol=1e-5)
        before = out.copy()
        cube[4, 4, 4] = np.nan
        assert not slicing.along_axes(cube, origin, down, across, out)
        assert not slicing.along_axes(cube[:3], origin, down + [0.01] * 3, across, out)
        np.testing.assert_array_equal(out, before)


@pytest.mark.parametrize("dtype", ["u2", "i2", "f4", "?"])
def test_stored_numbers_are_the_rounded_floats(form, rng, dtype):
    cube = rng.integers(0, 2 if dtype == "?" else 100, (9, 8, 7)).astype(dtype)
    cube = cube * np.dtype(dtype).type(2) if dtype in ("u2", "f4") else cube
    values = np.ones((31, 29), dtype)
    mask = np.zeros(values.shape, bool)
    at = (np.array([-1.2, 0.3, 5.9]), np.array([0.31, 0.2, -0.1]), np.array([0.07, 0.19, -0.12]))
    slicing.stored.choose(1)(cube, *at, values, mask)
    wide = np.empty(values.shape, "f8")
    slicing.trilinear_reference(cube, *at, wide)
    np.testing.assert_array_equal(mask, ~np.isnan(wide))
    assert not values[~mask].any()
    assert 0.2 < mask.mean() < 0.9
    got, wanted = values[mask].astype(float), as_stored(wide[mask], np.dtype(dtype)).astype(float)
    close = 1e-5 if dtype[0] == "f" else 0
    assert (np.abs(got - wanted) <= close * 200).mean() > 0.995  # halves may fall either way
    assert np.abs(got - wanted).max() <= 1


def test_an_oblique_plane_is_gathered_from_memory_without_copying_the_volume(tmp_path, rng):
    turn = np.eye(4)
    turn[:3, :3] = [[0.8, -0.6, 0], [0.48, 0.64, -0.6], [0.36, 0.48, 0.8]]
    values = rng.integers(-900, 900, (70, 80, 60)).astype("i2")
    held = sp.volume_from_array(values, affine=turn)
    held.save(tmp_path / "turned.nii")
    held.save(tmp_path / "turned.nii.gz")
    plain = sp.volume_from_array(values, affine=turn, nodata=-999)  # with no-data it is copied
    with sp.open(tmp_path / "turned.nii") as mapped, sp.open(tmp_path / "turned.nii.gz") as packed:
        assert source_of(mapped).in_memory(0) is not None
        assert source_of(packed).in_memory(0) is source_of(plain).in_memory(0) is None
        low, high = (one[2] for one in reach(held.grid))
        for at in np.linspace(low + 1, high - 1, 5):
            for one, other in ((held, plain), (mapped, packed)):
                wanted = other.slice("axial", at=at).pixels()
                np.testing.assert_array_equal(one.slice("axial", at=at).pixels(), wanted)
    assert np.shares_memory(source_of(held).in_memory(0), values)


def point(cube, place):
    if any(not -0.5 <= p <= n - 0.5 for p, n in zip(place, cube.shape, strict=True)):
        return np.nan
    total = weight = full = 0.0
    for corner in itertools.product((0, 1), repeat=3):
        index = [int(np.floor(p)) + d for p, d in zip(place, corner, strict=True)]
        share = np.prod([(p - np.floor(p)) if d else 1 - (p - np.floor(p))
                         for p, d in zip(place, corner, strict=True)])  # fmt: skip
        if any(not 0 <= i < n for i, n in zip(index, cube.shape, strict=True)):
            continue
        full += share
        if np.isfinite(cube[tuple(index)]):
            weight += share
            total += share * cube[tuple(index)]
    return total / weight if weight > 0 and weight >= 0.5 * full else np.nan


def orientations():
    """Every way in which i, j, k may run along the patient's axes."""
    for order in itertools.permutations(range(3)):
        for signs in itertools.product((1, -1), repeat=3):
            yield order, signs


def patient(order, signs):
    """A volume whose value tells where it is: x + 100 y + 10 000 z, in voxels of 2 x 3 x 4 mm."""
    sizes, counts = (2.0, 3.0, 4.0), (6, 5, 4)
    shape = [counts[axis] for axis in order]
    affine = np.zeros((4, 4))
    affine[3, 3] = 1
    for voxel, (axis, sign) in enumerate(zip(order, signs, strict=True)):
        affine[axis, voxel] = sign * sizes[axis]
        affine[axis, 3] = 0.0 if sign > 0 else (counts[axis] - 1) * sizes[axis]
    index = np.stack(np.meshgrid(*map(np.arange, shape), indexing="ij"))
    x, y, z = np.einsum("ab,bijk->aijk", affine[:3, :3], index) + affine[:3, 3, None, None, None]
    return sp.volume_from_array((x + 100 * y + 10_000 * z).astype("f4"), affine=affine)


@pytest.mark.parametrize("plane", PLANES)
@pytest.mark.parametrize(("order", "signs"), list(orientations())[::5])
def test_pictures_look_the_same_whatever_the_file(plane, order, signs):
    volume, plain = patient(order, signs), patient((0, 1, 2), (1, 1, 1))
    for given in ({}, {"at": 5.0}, {"side": "neurological"}):
        one, other = volume.slice(plane, **given), plain.slice(plane, **given)
        np.testing.assert_allclose(one.pixels().filled(-1), other.pixels().filled(-1), rtol=1e-5)
        np.testing.assert_allclose(one.grid.affine, other.grid.affine)
    across = PLANES[plane][0]
    voxel = order.index(across)
    last = volume.shape[1:][voxel] - 1
    index = 1 if signs[voxel] > 0 else last - 1
    stored, wanted = volume.slice(plane, index=index), plain.slice(plane, index=1)
    np.testing.assert_array_equal(stored.pixels().data, wanted.pixels().data)


def test_right_is_on_the_left_and_front_and_head_are_up():
    volume = patient((0, 1, 2), (1, 1, 1))
    axial = volume.slice("axial", at=4.0).pixels()[0]
    assert axial[2, 0] > axial[2, -1]  # x, the patient's right, on the left
    assert axial[0, 2] - axial[-1, 2] > 300  # y, the front, up
    coronal = volume.slice("coronal").pixels()[0]
    assert coronal[0, 2] > coronal[-1, 2] + 10_000  # z, the head, up
    sagittal = volume.slice("sagittal").pixels()[0]
    assert sagittal[3, 0] > sagittal[3, -1] + 300  # y, the front, on the left
    turned = volume.slice("axial", at=4.0, side="neurological").pixels()[0]
    np.testing.assert_allclose(turned, axial[:, ::-1], rtol=1e-6)
    assert SlicePlane.of("axial").labels == {"left": "R", "right": "L", "top": "A", "bottom": "P"}
    assert SlicePlane.of("sagittal").labels == {
        "left": "A",
        "right": "P",
        "top": "S",
        "bottom": "I",
    }
    assert SlicePlane.of("coronal", "neurological").labels["left"] == "L"


def test_each_pixel_is_the_value_at_its_millimetre():
    volume = patient((2, 0, 1), (-1, 1, -1))
    picture = volume.slice("coronal", at=4.5)
    assert picture.grid.pixel_size == (2, 2)
    pixels = picture.pixels()[0]
    for row, column in ((2, 3), (4, 1), (5, 4)):
        x, z = picture.grid.center(row=row, column=column)
        assert pixels[row, column] == pytest.approx(x + 100 * 4.5 + 10_000 * z, rel=1e-5)
    tilt = np.radians(20)
    turn = np.eye(4)
    turn[:2, :2] = [[np.cos(tilt), -np.sin(tilt)], [np.sin(tilt), np.cos(tilt)]]
    oblique = sp.volume_from_array(volume.voxels().filled(0), affine=turn @ volume.affine)
    assert aligned_axes(oblique.grid) == aligned_axes(volume.grid)
    seen = oblique.slice("axial", at=6.0)
    x, y = seen.grid.center(row=6, column=5)
    own = np.linalg.inv(turn) @ (x, y, 6.0, 1)
    assert seen.pixels()[0, 6, 5] == pytest.approx(own[0] + 100 * own[1] + 60_000, rel=1e-3)


SLABS = [(6.0, 8.0), (5.1, 3.0), (7.3, 0.5), (0.0, 100.0), (9.9, 6.4)]


@pytest.mark.parametrize(("at", "thick"), SLABS)
@pytest.mark.parametrize("project", ["maximum", "minimum", "mean"])
@pytest.mark.parametrize("dtype", ["i2", "f4"])
def test_slabs_project_stored_planes_by_their_shares(rng, project, at, thick, dtype):
    """Before anything is mixed: planes count by what of their thickness lies in the slab."""
    values = rng.integers(-900, 900, (7, 6, 9)).astype(dtype)
    values[2, 3, 4] = -999
    side = 1.7
    affine = np.diag([2.0, 2.0, side, 1.0])
    affine[2, 3] = -0.4
    volume = sp.volume_from_array(values, affine=affine, nodata=-999)
    found = volume.slice("axial", at=at, slab=thick, project=project).pixels(physical=True)[0]
    middles = -0.4 + side * np.arange(9)
    shares = np.clip((np.minimum(middles + side / 2, at + thick / 2)
                      - np.maximum(middles - side / 2, at - thick / 2)) / side, 0, 1)  # fmt: skip
    held = np.where(values == -999, np.nan, values.astype(float))
    nearest = int(np.argmin(np.abs(middles - at)))
    if project == "mean":
        some = np.where(np.isnan(held), 0, 1) * shares
        wanted = (np.nan_to_num(held) * shares).sum(2) / some.sum(2)
    else:
        counts = shares >= 0.5 - 1e-9
        counts[nearest] = True
        wanted = (np.nanmax if project == "maximum" else np.nanmin)(held[:, :, counts], axis=2)
    np.testing.assert_allclose(found.filled(np.nan), wanted.T[::-1, ::-1], rtol=1e-5, atol=1e-4)


@pytest.mark.parametrize("project", ["maximum", "minimum", "mean"])
def test_oblique_slabs_are_sampled_along_the_normal(rng, project):
    values = rng.normal(size=(20, 20, 20)).astype("f4")
    volume = sp.volume_from_array(values, affine=np.diag([1.5, 1.5, 1.5, 1.0]))
    about = sp.Oblique((14.0, 14.0, 14.0), (0.3, 0.2, 0.9))
    slab = volume.slice("oblique", oblique=about, slab=6.0, project=project).pixels(physical=True)
    normal = np.array((0.3, 0.2, 0.9)) / np.linalg.norm((0.3, 0.2, 0.9))
    planes = [volume.slice("oblique", oblique=sp.Oblique(tuple(14.0 + normal * d), tuple(normal)))
              .pixels(physical=True)[0] for d in (-2.25, -0.75, 0.75, 2.25)]  # fmt: skip
    pick = {"maximum": np.ma.max, "minimum": np.ma.min, "mean": np.ma.mean}[project]
    wanted = pick(np.ma.stack(planes), axis=0)
    middle = (slice(8, -8), slice(8, -8))
    np.testing.assert_allclose(slab[0][middle], wanted[middle], atol=2e-2)


def test_regridding_and_cropping_keep_the_millimetres():
    volume = patient((1, 2, 0), (1, -1, 1))
    fine = patient((0, 1, 2), (1, 1, 1))
    there = volume.regrid(fine)
    np.testing.assert_allclose(there.voxels(), fine.voxels(), rtol=1e-5)
    np.testing.assert_allclose(volume.regrid(fine, resample="nearest").voxels(), fine.voxels())
    part = volume.crop(i=(1, 4), k=(2, 5))
    np.testing.assert_array_equal(part.voxels(), volume.voxels(i=(1, 4), k=(2, 5)))
    low, high = reach(part.grid)
    assert (low >= reach(volume.grid)[0] - 1e-9).all()
    assert part.slice("axial", at=float(high[2]) - 1).shape[0] == 1
    window = source_of(there).read([0], ((1, 3), (2, 4), (1, 2)))
    np.testing.assert_allclose(window.values[0], there.voxels()[1:3, 2:4, 1:2])


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"plane": "diagonal"}, "expected one of axial"),
        ({"plane": "axial", "at": 99}, "reaches from -2 to 14 mm"),
        ({"plane": "axial", "index": 9}, "which has 0 to 3"),
        ({"plane": "axial", "at": 1, "index": 1}, "not both"),
        ({"plane": "axial", "side": "left"}, "radiological or neurological"),
        ({"plane": "axial", "slab": 3, "project": "sum"}, "expected maximum"),
        ({"plane": "axial", "slab": 3, "index": 1}, "not at an index"),
        ({"plane": "axial", "frame": 3}, "there is no band 3"),
    ],
)
def test_slices_that_are_not_there_are_refused(given, message):
    volume = patient((0, 1, 2), (1, 1, 1))
    with pytest.raises(sp.SpectraneError, match=message):
        volume.slice(**given)
    far = sp.volume_from_array(np.zeros((2, 2, 2)), affine=np.diag([1, 1, 1, 1]) + np.array(
        [[0, 0, 0, 500]] + [[0] * 4] * 3))  # fmt: skip
    with pytest.raises(sp.GridMismatch, match="do not meet"):
        volume.regrid(far)
    with pytest.raises(sp.GridMismatch, match="start < stop"):
        volume.crop(i=(3, 3))
    with pytest.raises(sp.MetadataError, match="frames"):
        sp.volume_from_array(np.zeros((2, 2, 2)), affine=np.eye(4), frames=["a", "b"])


def test_a_file_is_read_only_where_the_slice_lies(tmp_path, rng):
    cube = rng.integers(0, 1000, (20, 30, 40)).astype("i2")
    sp.volume_from_array(cube, affine=np.diag([1, 1, 2, 1])).save(tmp_path / "a.nii")
    volume = sp.open(tmp_path / "a.nii")
    seen = []
    plain = source_of(volume).voxels
    source_of(volume).voxels = lambda frame, window: seen.append(window) or plain(frame, window)
    volume.slice("axial", at=20.0).pixels()
    assert seen == [((0, 20), (0, 30), (10, 12))]
    picture = sp.render(volume.slice("axial", index=10), sp.Look(limits=(0, 1000)))
    assert picture.rgba.shape == (30, 20, 4)


@pytest.mark.parametrize("way", slicing.WAYS)
@pytest.mark.parametrize("dtype", ["i2", "f4", "f8"])
def test_slabs_in_both_forms(rng, way, dtype):
    volume = (rng.normal(size=(9, 10, 11)) * 500).astype(dtype)
    if dtype != "i2":
        volume[4, 4:7, 5] = np.nan
    axes = np.array([-1.0, 2, 1]), np.array([0.7, 0.2, 0.1]), np.array([0.1, 0.6, 0.3])
    step, code = np.array([0.2, -0.1, 0.4]), slicing.WAYS.index(way)
    found = []
    for form in (slicing.slab.reference, slicing.slab.loop()):
        out = np.empty((12, 13), "f8" if dtype == "f8" else "f4")
        form(volume, *axes, step, 7, code, out)
        found.append(out)
    np.testing.assert_allclose(*found, rtol=1e-4, atol=1e-3)
    assert np.isnan(found[0]).any()
    assert np.isfinite(found[0]).any()
