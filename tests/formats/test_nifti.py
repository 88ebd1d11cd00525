"""NIfTI: heads packed by hand by the standard's offsets, read back voxel by voxel."""

from __future__ import annotations

import gzip
import pickle
import struct

import numpy as np
import pytest

import spectrane as sp
from spectrane.engine import inflating
from spectrane.engine.files import HeldFile
from spectrane.engine.inflating import InflatedFile
from spectrane.formats.nifti.header import TYPES
from spectrane.formats.nifti.writer import quaternion
from spectrane.model.source import source_of

AFFINE = np.array([[-2.0, 0, 0, 90], [0, 2, 0, -126], [0, 0, 3, -72], [0, 0, 0, 1]])


def head(version=1, order="<", *, dims=(5, 4, 3), datatype=4, slope=1.0, inter=0.0, sform=AFFINE,
         qform=None, pixdim=(1, 2, 2, 3, 2.5, 1, 1, 1), units=2 | 8, window=(0, 0), single=True,
         extension=b"", name=b"", codes=None):  # fmt: skip
    """Pack a head by the offsets of nifti1.h and nifti2.h."""
    size = {1: 348, 2: 540}[version]
    out = bytearray(size)
    offset = size + 4 + len(extension) if single else 0
    codes = codes or (1 if qform is not None else 0, 1 if sform is not None else 0)
    quatern, place = qform if qform is not None else ((0, 0, 0), (0, 0, 0))
    rows = np.eye(4) if sform is None else sform
    filled = [len(dims), *dims, *[1] * (7 - len(dims))]
    bits = np.dtype(TYPES[datatype][0]).itemsize * 8

    def put(code, where, *values):
        struct.pack_into(order + code, out, where, *values)

    put("i", 0, size)
    if version == 1:
        put("8h", 40, *filled)
        put("2h", 70, datatype, bits)
        put("8f", 76, *pixdim)
        put("3f", 108, offset, slope, inter)
        out[123] = units
        put("2f", 124, window[1], window[0])
        put("2h6f", 252, *codes, *quatern, *place)
        for k in range(3):
            put("4f", 280 + 16 * k, *rows[k])
        out[328 : 328 + len(name)] = name
        out[344:348] = b"n+1\0" if single else b"ni1\0"
    else:
        out[4:12] = b"n+2\0\r\n\x1a\n" if single else b"ni2\0\r\n\x1a\n"
        put("2h", 12, datatype, bits)
        put("8q", 16, *filled)
        put("8d", 104, *pixdim)
        put("q2d2d", 168, offset, slope, inter, window[1], window[0])
        put("2i6d", 344, *codes, *quatern, *place)
        for k in range(3):
            put("4d", 400 + 32 * k, *rows[k])
        put("i", 500, units)
        out[508 : 508 + len(name)] = name
    flag = b"\1\0\0\0" if extension else bytes(4)
    return bytes(out) + flag + extension


def numbers(rng, code, shape):
    if code.startswith("V"):
        return rng.integers(0, 256, (*shape, np.dtype(code).itemsize)).astype("u1")
    if code.startswith("c"):
        return (rng.normal(size=shape) + 1j * rng.normal(size=shape)).astype(code)
    return rng.integers(0, 100, shape).astype(code)


@pytest.mark.parametrize("datatype", [n for n, (code, _) in TYPES.items() if code[0] in "iuf"])
@pytest.mark.parametrize("order", ["<", ">"])
@pytest.mark.parametrize("version", [1, 2])
def test_every_number_type_in_either_order(tmp_path, rng, datatype, order, version):
    code = TYPES[datatype][0]
    cube = numbers(rng, code, (5, 4, 3))
    path = tmp_path / "a.nii"
    path.write_bytes(head(version, order, datatype=datatype, slope=2, inter=-3)
                     + cube.T.astype(f"{order}{code}").tobytes())  # fmt: skip
    with sp.open(path) as volume:
        assert (volume.format, volume.shape) == (f"NIfTI-{version}", (1, 5, 4, 3))
        assert volume.dtype == np.dtype(code)
        np.testing.assert_array_equal(volume.voxels(physical=False), cube)
        np.testing.assert_array_equal(volume.voxels(), cube * 2.0 - 3)
        np.testing.assert_array_equal(volume.affine, AFFINE)
        part = volume.voxels(i=(1, 4), j=(2, 3), k=(0, 2), physical=False)
        np.testing.assert_array_equal(part, cube[1:4, 2:3, 0:2])
        again = pickle.loads(pickle.dumps(source_of(volume)))
        np.testing.assert_array_equal(again.read([0], ((0, 5), (0, 4), (0, 3))).values[0], cube)


def test_colours_complex_and_long_floats(tmp_path, rng):
    path = tmp_path / "a.nii"
    for datatype, names in ((128, "red green blue"), (2304, "red green blue alpha")):
        cube = numbers(rng, TYPES[datatype][0], (3, 4, 5))  # k, j, i, samples
        path.write_bytes(head(datatype=datatype) + cube.tobytes())
        volume = sp.open(path)
        assert [f.name for f in volume.frames] == names.split()
        np.testing.assert_array_equal(volume.voxels("green"), cube[..., 1].T)
    cube = numbers(rng, "c8", (5, 4, 3))
    path.write_bytes(head(datatype=32) + cube.T.tobytes())
    with pytest.warns(sp.DataWarning, match="are complex; their magnitude is read"):
        volume = sp.open(path)
    np.testing.assert_allclose(volume.voxels(), np.abs(cube), rtol=1e-6)
    assert volume.metadata["complex"] == "magnitude is read"
    np.testing.assert_allclose(sp.open(path, complex="phase").voxels(), np.angle(cube), atol=1e-6)
    with pytest.raises(sp.LookError, match="magnitude, phase, real"):
        sp.open(path, complex="modulus")
    with pytest.raises(sp.FormatError, match="spacing means nothing for this format"):
        sp.open(path, spacing="nominal")
    quads = {0.0: (0, 0), 1.0: (0x3FFF << 48, 0), -2.5: (0xC000 << 48 | 1 << 46, 0),
             np.inf: (0x7FFF << 48, 0), 1 + 2**-50: (0x3FFF << 48, 1 << 62)}  # fmt: skip
    raw = b"".join(struct.pack("<QQ", low, high) for high, low in quads.values())
    path.write_bytes(head(dims=(5, 1, 1), datatype=1536) + raw)
    assert sp.open(path).voxels().ravel().tolist() == list(quads)


def test_the_place_comes_from_sform_then_qform_then_sizes(tmp_path):
    path = tmp_path / "a.nii"
    voxels = np.zeros(60, "<i2").tobytes()
    turn = np.array([[0, -1, 0], [1, 0, 0], [0, 0, 1.0]])
    quatern, qfac, _ = quaternion(turn)
    qform = (quatern, (10, 20, 30))
    both = head(qform=qform) + voxels
    path.write_bytes(both)
    with pytest.warns(sp.DataWarning, match="sform and qform put the volume up to"):
        assert sp.open(path).metadata["placed by"] == "sform"
    path.write_bytes(head(sform=None, qform=qform, pixdim=(-qfac, 2, 2, 3, 1, 1, 1, 1)) + voxels)
    wanted = np.eye(4)
    wanted[:3, :3] = turn * (2, 2, -3)
    wanted[:3, 3] = 10, 20, 30
    volume = sp.open(path)
    np.testing.assert_allclose(volume.affine, wanted, atol=1e-6)
    assert volume.metadata["placed by"] == "qform"
    path.write_bytes(head(sform=None) + voxels)
    np.testing.assert_array_equal(sp.open(path).affine, np.diag([2, 2, 3, 1]))
    path.write_bytes(head(units=1) + voxels)  # metres
    np.testing.assert_allclose(sp.open(path).spacing, (2000, 2000, 3000))


def test_frames_windows_extensions_and_scales_of_nothing(tmp_path, rng):
    path = tmp_path / "a.nii"
    cube = numbers(rng, "i2", (5, 4, 3, 2))
    data = struct.pack("<ii", 16, 6) + b"notes   "
    path.write_bytes(head(dims=(5, 4, 3, 2), slope=0, inter=9, window=(-5, 60), extension=data)
                     + cube.T.tobytes())  # fmt: skip
    volume = sp.open(path)
    assert [f.name for f in volume.frames] == ["0 s", "2.5 s"]
    assert volume.window == (-5, 60)
    assert [one["code"] for one in volume.metadata["extensions"]] == [6]
    np.testing.assert_array_equal(volume.voxels(2), cube[..., 1])
    assert volume.statistics().loc["2.5 s", "max"] == cube[..., 1].max()
    path.write_bytes(head(name=b"t value") + bytes(120))
    assert sp.open(path).frames[0].name == "t value"


def test_extensions_are_kept_but_for_what_names_a_patient(tmp_path):
    path, target = tmp_path / "a.nii", tmp_path / "again.nii"
    attributes = struct.pack("<ii", 32, 2) + b"Doe^Jane".ljust(24, b"\0")
    own = struct.pack("<ii", 16, 44) + b"kept\0\0\0\0"
    path.write_bytes(head(extension=own + attributes) + bytes(120))
    volume = sp.open(path)
    assert volume.identity == ("extensions",)
    with pytest.warns(sp.DataWarning, match="DICOM attributes"):
        volume.save(target)
    assert b"Doe" not in target.read_bytes()
    kept = sp.open(target).metadata["extensions"]
    assert [(one["code"], one["data"]) for one in kept] == [(44, b"kept\0\0\0\0")]


def test_pairs_and_gzip(tmp_path, rng):
    cube = numbers(rng, "i2", (5, 4, 3))
    (tmp_path / "b.hdr").write_bytes(head(single=False)[:348])
    with pytest.raises(sp.MissingFile, match="is a pair's head|is the head of a pair"):
        sp.open(tmp_path / "b.hdr")
    (tmp_path / "b.img").write_bytes(cube.T.tobytes())
    np.testing.assert_array_equal(sp.open(tmp_path / "b.hdr").voxels(), cube)
    (tmp_path / "c.nii.gz").write_bytes(gzip.compress(head() + cube.T.tobytes()))
    packed = sp.open(tmp_path / "c.nii.gz")
    np.testing.assert_array_equal(packed.voxels(j=(1, 3)), cube[:, 1:3])
    np.testing.assert_array_equal(pickle.loads(pickle.dumps(source_of(packed))).read(
        [0], ((0, 5), (0, 4), (2, 3))).values[0], cube[..., 2:])  # fmt: skip


def test_gzip_is_read_at_any_place_without_inflating_twice(rng, monkeypatch):
    monkeypatch.setattr(inflating, "_APART", 5000)
    monkeypatch.setattr(inflating, "_PIECE", 700)
    data = rng.integers(0, 6, 200_000).astype("u1").tobytes()
    two = gzip.compress(data[:90_000]) + gzip.compress(data[90_000:]) + bytes(64)
    inside = InflatedFile(HeldFile("a.gz", two))
    for offset, length in ((150_000, 300), (10, 20), (89_990, 40), (199_990, 10)):
        assert inside.read(offset, length) == data[offset : offset + length]
    assert inside.size == 200_000
    assert 10 < inside.marks < 60
    taken = []
    plain = HeldFile.fetch
    monkeypatch.setattr(HeldFile, "fetch", lambda self, ranges: taken.append(ranges) or plain(
        self, ranges))  # fmt: skip
    inside.read(150_000, 100)
    assert sum(length for ranges in taken for _, length in ranges) < 12_000
    with pytest.raises(sp.FormatError, match="past the end of what it holds"):
        inside.read(199_999, 2)
    for broken in (two[:5000], two[:400] + b"\xff" * 50 + two[450:]):
        with pytest.raises(sp.FormatError, match="cut short|broken packed"):
            InflatedFile(HeldFile("b.gz", broken)).read(100_000, 10)


def test_what_is_written_is_read_back(tmp_path, rng):
    turn = np.array([[0, 0, 2.5, 5], [-1.5, 0, 0, 6], [0, 1.5, 0, 7], [0, 0, 0, 1]])
    for dtype in ("u1", "i2", "f4", "f8", "u4"):
        cube = numbers(rng, dtype, (2, 5, 4, 3))
        frames = [sp.Frame("a", scale=0.5, offset=1), sp.Frame("b", scale=0.5, offset=1)]
        volume = sp.volume_from_array(cube, affine=turn, frames=frames)
        for name, options in (("a.nii", {}), ("b.nii.gz", {}), ("c.nii", {"version": 2})):
            volume.save(tmp_path / name, overwrite=True, **options)
            back = sp.open(tmp_path / name)
            np.testing.assert_array_equal(back.voxels(2, physical=False), cube[1])
            np.testing.assert_allclose(back.affine, turn, atol=1e-6)
            assert back.voxels(1)[0, 0, 0] == cube[0, 0, 0, 0] * 0.5 + 1
    holed = sp.volume_from_array(np.where(cube > 50, np.nan, cube.astype("f4")), affine=turn)
    holed.save(tmp_path / "d.nii")
    np.testing.assert_array_equal(sp.open(tmp_path / "d.nii").voxels(2).mask, cube[1] > 50)
    marked = sp.volume_from_array(cube, affine=turn, nodata=int(cube[0, 0, 0, 0]))
    with pytest.warns(sp.DataWarning, match="written as float64 with NaN instead of uint32"):
        marked.save(tmp_path / "e.nii")
    back = sp.open(tmp_path / "e.nii").voxels(2, physical=False)
    np.testing.assert_array_equal(back.mask, marked.voxels(2).mask)
    np.testing.assert_array_equal(back, marked.voxels(2, physical=False))
    wholly = sp.volume_from_array(cube, affine=turn, nodata=int(cube.max()) + 1)
    wholly.save(tmp_path / "f.nii")  # none is invalid: the type stays
    assert sp.open(tmp_path / "f.nii").dtype == "u4"
    long = sp.volume_from_array(cube.astype("i8"), affine=turn, nodata=int(cube[0, 0, 0, 0]))
    with pytest.raises(sp.FormatError, match="no float holds int64"):
        long.save(tmp_path / "g.nii")


@pytest.mark.parametrize(
    ("change", "message"),
    [
        ({"dims": (5, 0, 3)}, "field dim is"),
        ({"sform": np.diag([2, 0, 3, 1.0])}, "voxels without volume"),
        ({"sform": None, "qform": ((0.9, 0.9, 0), (0, 0, 0))}, "is longer than 1"),
        ({"sform": None, "qform": ((0, 0, 0), (0, 0, 0)), "pixdim": (1, 0, 2, 3, 1, 1, 1, 1)},
         "expected spacings above 0"),
        ({"dims": (500, 400, 300)}, "needs .* bytes"),
    ],
)  # fmt: skip
def test_heads_that_contradict_themselves_are_refused(tmp_path, change, message):
    path = tmp_path / "a.nii"
    path.write_bytes(head(**change) + bytes(200))
    with pytest.raises(sp.FormatError, match=message):
        sp.open(path)
    with pytest.raises(sp.SpectraneError):
        sp.open(path).voxels()


def test_a_packed_file_whose_first_member_is_tiny(tmp_path, rng):
    cube = numbers(rng, "i2", (3, 4, 5))
    whole = head(dims=(5, 4, 3), datatype=4) + cube.tobytes()
    parts = [whole[:5], whole[5:9], whole[9:]]
    (tmp_path / "a.nii.gz").write_bytes(b"".join(map(gzip.compress, parts)))
    np.testing.assert_array_equal(sp.open(tmp_path / "a.nii.gz").voxels(), cube.T)


def test_the_image_of_a_pair_points_to_its_head(tmp_path):
    (tmp_path / "a.img").write_bytes(bytes(200))
    (tmp_path / "a.hdr").write_bytes(bytes(348))
    with pytest.raises(sp.FormatError, match=r"a.img: holds the numbers of a pair.*a\.hdr"):
        sp.open(tmp_path / "a.img")


def test_of_two_matrices_either_places_a_volume(tmp_path, run):
    path = tmp_path / "two.nii"
    sp.volume_from_array(np.zeros((4, 5, 6), "i2"), affine=np.diag([2.0, 2, 2, 1])).save(path)
    data = bytearray(path.read_bytes())
    struct.pack_into("<f", data, 268, 30.0)  # qoffset_x
    path.write_bytes(bytes(data))
    with pytest.warns(sp.DataWarning, match="30 mm apart.*choose qform takes the other"):
        assert sp.open(path).affine[0, 3] == 0
    for choose, x in (("sform", 0), ("qform", 30)):
        volume = sp.open(path, choose=choose)
        assert (volume.affine[0, 3], volume.metadata["placed by"]) == (x, choose)
        assert f"{x - 1}" in run("describe", path, "--choose", choose)[1]
    struct.pack_into("<h", data, 252, 0)  # qform_code
    path.write_bytes(bytes(data))
    with pytest.raises(sp.FormatError, match="qform is asked for, and the file has none"):
        sp.open(path, choose="qform")
    with pytest.raises(sp.LookError, match="expected sform or qform"):
        sp.open(path, choose="best")
