"""Damage is an error wherever it can be told; or the rest is kept, and the damaged part invalid."""

from __future__ import annotations

import gzip
import io
import pickle
import zlib

import imagecodecs
import numpy as np
import pytest
from PIL import Image
from tests import tiff_builder
from tests.conftest import natural
from tests.formats import dicom_builder, fits_builder

import spectrane as sp
from spectrane.model.errors import FormatError, LookError

RNG = np.random.default_rng(3)
ARRAY = natural(RNG, (3, 300, 350), "u1")
COLOURS = np.ascontiguousarray(ARRAY.transpose(1, 2, 0))
VOXELS = RNG.integers(0, 99, (20, 30, 25)).astype("i2")


def pillow(**options):
    file = io.BytesIO()
    Image.fromarray(COLOURS).save(file, **options)
    return file.getvalue()


def saved(ending, **options):
    def make(folder):
        sp.from_array(ARRAY).save(folder / f"a{ending}", **options)
        return (folder / f"a{ending}").read_bytes()

    return make


def volume(ending):
    def make(folder):
        sp.volume_from_array(VOXELS, affine=np.eye(4)).save(folder / f"a{ending}")
        return (folder / f"a{ending}").read_bytes()

    return make


def dicom(codec, syntax, dtype="u1"):
    image = ARRAY[0].astype(dtype)
    packed = dicom_builder.encapsulated([codec(image)])
    return dicom_builder.image(image, syntax=f"1.2.840.10008.1.2.4.{syntax}", packed=packed)


def fits_tiles(pack, method, extra=()):
    cells = [pack(row) for row in ARRAY[0]]
    return fits_builder.empty() + fits_builder.table(
        cells, ARRAY[0].shape, 8, extra=[("ZCMPTYPE", method), *extra])  # fmt: skip


CUT, FLIP = "cut short", "bytes changed"
# What it is made of, what is done to it, and the share that is invalid when the rest is kept.
CASES = {
    "JPEG": (".jpg", pillow(format="JPEG", quality=90), (CUT, FLIP), 1.0),
    "JPEG, progressive": (".jpg", pillow(format="JPEG", progressive=True), (CUT, FLIP), 1.0),
    "TIFF, JPEG": (".tif", pillow(format="TIFF", compression="jpeg"), (FLIP,), None),
    "TIFF, DEFLATE": (".tif", saved(".tif", overviews=False), (CUT, FLIP), None),
    "TIFF, ZSTD": (".tif", saved(".tif", compress="zstd", overviews=False), (CUT, FLIP), None),
    "TIFF, planes": (".tif", saved(".tif", planes="planar", overviews=False), (CUT, FLIP), None),
    "TIFF, plain": (".tif", saved(".tif", compress="none", overviews=False), (CUT,), None),
    "PNG": (".png", saved(".png"), (CUT, FLIP), 1.0),
    "NPY": (".npy", saved(".npy"), (CUT,), 0.1),
    "FITS": (".fits", fits_builder.image(ARRAY), (CUT,), 0.1),
    "FITS, RICE_1": (".fits", fits_tiles(
        lambda row: bytes(imagecodecs.rcomp_encode(row, nblock=32)), "RICE_1",
        [("ZNAME1", "BYTEPIX"), ("ZVAL1", 1)]), (CUT,), 0.1),
    "FITS, GZIP_1": (".fits", fits_tiles(lambda r: gzip.compress(r.tobytes()), "GZIP_1"),
                     (CUT, FLIP), None),
    "netCDF": (".nc", saved(".nc"), (FLIP,), None),
    "JPEG 2000": (".jp2", imagecodecs.jpeg2k_encode(COLOURS, codecformat="jp2", level=0),
                  (CUT,), 1.0),
    "DICOM": (".dcm", dicom_builder.image(ARRAY[0]), (CUT,), 1.0),
    "DICOM, JPEG": (".dcm", dicom(lambda a: imagecodecs.jpeg8_encode(a, level=95), 50),
                    (CUT, FLIP), 1.0),
    "DICOM, lossless JPEG": (".dcm", dicom(
        lambda a: imagecodecs.jpeg8_encode(a, lossless=True), 70), (CUT, FLIP), 1.0),
    "DICOM, lossless JPEG of 16 bits": (".dcm", dicom(imagecodecs.ljpeg_encode, 70, "u2"),
                                        (CUT,), 1.0),
    "DICOM, JPEG-LS": (".dcm", dicom(imagecodecs.jpegls_encode, 80), (CUT, FLIP), 1.0),
    "NIfTI": (".nii", volume(".nii"), (CUT,), 0.12),
    "NIfTI, packed": (".nii.gz", volume(".nii.gz"), (CUT,), None),
}  # fmt: skip


def broken(data, how):
    if how == CUT:
        return data[: int(len(data) * 0.9)]
    out, middle = bytearray(data), len(data) // 2
    out[middle : middle + 200] = RNG.integers(0, 255, 200).astype("u1").tobytes()
    return bytes(out)


def numbers(path, **options):
    opened = sp.open(path, **options)
    opened = type(opened)(pickle.loads(pickle.dumps(opened._source)))
    return opened.voxels() if len(opened.shape) == 4 else opened.pixels()


@pytest.mark.parametrize("name", CASES)
def test_damage_is_an_error_or_invalid(tmp_path, name):
    ending, made, ways, share = CASES[name]
    data = made(tmp_path) if callable(made) else made
    path = tmp_path / f"b{ending}"
    path.write_bytes(data)
    good = numbers(path)
    for how in ways:
        path.write_bytes(broken(data, how))
        with pytest.raises(FormatError, match=path.name):
            numbers(path)
        with pytest.warns(sp.DataWarning, match=r"\d+ of \d+ \w+ .* found damaged so far, and"):
            kept = numbers(path, damaged="keep")
        lost = np.ma.getmaskarray(kept)
        assert 0 < lost.mean() <= 1
        assert share is None or abs(lost.mean() - share) < 0.04
        if how == CUT:
            np.testing.assert_array_equal(kept.data[~lost], good.data[~lost])


STREAMS = {
    "without its checksum": (lambda data: zlib.compress(data)[:-4], True),
    "that goes on": (lambda data: zlib.compress(data + bytes(5000)), True),
    "with a wrong checksum": (lambda data: zlib.compress(data)[:-1] + b"?", False),
    "that goes on to a wrong checksum": (
        lambda data: zlib.compress(data + bytes(5000))[:-1] + b"?", False),
}  # fmt: skip


@pytest.mark.parametrize("name", STREAMS)
def test_a_deflate_stream(tmp_path, monkeypatch, name):
    packed, whole = STREAMS[name]
    monkeypatch.setitem(tiff_builder._ENCODE, 8, packed)
    array = ARRAY[:1, :40, :50]
    path = tmp_path / "a.tif"
    path.write_bytes(tiff_builder.tiff(tiff_builder.image(array, strip_rows=40, compression=8)))
    if whole:
        np.testing.assert_array_equal(sp.open(path).pixels().data, array)
    else:
        with pytest.raises(FormatError, match="the file is damaged there"):
            sp.open(path).pixels()


def test_another_word_is_refused(tmp_path):
    sp.from_array(ARRAY).save(tmp_path / "a.tif")
    with pytest.raises(LookError, match="damaged 'skip': expected error or keep"):
        sp.open(tmp_path / "a.tif", damaged="skip")
