"""Our own formats keep what every reader and every writer promises, by the tests that ship."""

from __future__ import annotations

import io

import h5py
import imagecodecs
import numpy as np
import zarr
from PIL import Image
from tests.conftest import natural
from tests.formats import dicom_builder, fits_builder, test_nifti
from tests.tiff_builder import image, tiff

from spectrane.testing import Example, ReaderTests, WriterTests

RNG = np.random.default_rng(4)
BYTES = natural(RNG, (3, 40, 50), "u1")
WORDS = natural(RNG, (2, 40, 50), "i2")
FLOATS = natural(RNG, (1, 40, 50), "f4")
LARGE = natural(RNG, (1, 1500, 1600), "u2")


def put(folder, name, data):
    (folder / name).write_bytes(data)
    return folder / name


class TestTiff(ReaderTests):
    format = "TIFF"

    def examples(self, folder):
        for k, (array, options) in enumerate([
            (BYTES, {"strip_rows": 7}), (WORDS, {"tile": (16, 32), "compression": 8, "order": ">"}),
            (FLOATS, {"tile": (16, 16)}), (BYTES, {"separate": True, "compression": 5}),
        ]):  # fmt: skip
            order = options.get("order", "<")
            data = tiff(image(array, **options), order=order, big=k % 2 == 1)
            yield Example(put(folder, f"a{k}.tif", data), array)
        filled = np.where(BYTES[:1] < 90, 0, BYTES[:1]).astype("u1")
        extra = [(42113, "s", b"0\0")]
        data = tiff(image(filled, strip_rows=9, extra=extra))
        yield Example(put(folder, "nodata.tif", data), filled, filled != 0)

    def large(self, folder):
        return put(folder, "large.tif", tiff(image(LARGE, tile=(256, 256))))


class TestFits(ReaderTests):
    format = "FITS"

    def examples(self, folder):
        yield Example(put(folder, "a.fits", fits_builder.image(WORDS)), WORDS)
        data = fits_builder.image(WORDS, extra=[("BLANK", int(WORDS[0, 0, 0]))])
        yield Example(put(folder, "b.fits", data), WORDS, WORDS[0, 0, 0] != WORDS)
        cells = [bytes(imagecodecs.rcomp_encode(row, nblock=32)) for row in BYTES[0]]
        data = fits_builder.empty() + fits_builder.table(
            cells, (40, 50), 8,
            extra=[("ZCMPTYPE", "RICE_1"), ("ZNAME1", "BYTEPIX"), ("ZVAL1", 1)],
        )  # fmt: skip
        yield Example(put(folder, "c.fits", data), BYTES[:1])

    def large(self, folder):
        return put(folder, "large.fits", fits_builder.image(LARGE.astype("i2")))


class TestPng(ReaderTests):
    format = "PNG"

    def examples(self, folder):
        for k, array in enumerate((BYTES, BYTES[:1], natural(RNG, (1, 40, 50), "u2"))):
            cube = np.ascontiguousarray(array.transpose(1, 2, 0)).squeeze()
            yield Example(put(folder, f"a{k}.png", imagecodecs.png_encode(cube)), array)


class TestJpeg(ReaderTests):
    format = "JPEG"

    def examples(self, folder):
        smooth = (np.add.outer(np.arange(40), np.arange(50)) * 2).astype("u1")
        Image.fromarray(smooth).save(folder / "a.jpg", quality=95)
        yield Example(folder / "a.jpg", smooth[np.newaxis], within=4)


class TestJpeg2000(ReaderTests):
    format = "JPEG 2000"

    def examples(self, folder):
        for kind in ("jp2", "j2k"):
            data = imagecodecs.jpeg2k_encode(BYTES[0], codecformat=kind, level=0)
            yield Example(put(folder, f"a.{kind}", data), BYTES[:1])


class TestNpy(ReaderTests):
    format = "NPY"

    def examples(self, folder):
        for k, array in enumerate((WORDS, FLOATS, np.asfortranarray(BYTES))):
            np.save(folder / f"a{k}.npy", array)
            yield Example(folder / f"a{k}.npy", array)

    def large(self, folder):
        np.save(folder / "large.npy", LARGE)
        return folder / "large.npy"


class TestNpz(ReaderTests):
    format = "NPZ"

    def examples(self, folder):
        np.savez_compressed(folder / "a.npz", one=WORDS, other=FLOATS)
        yield Example(folder / "a.npz", FLOATS, member="other")


class TestNetcdf(ReaderTests):
    format = "netCDF-4"
    cuts = 6  # each costs the start of a process

    def examples(self, folder):
        with h5py.File(folder / "a.nc", "w") as file:
            file.attrs["Conventions"] = np.bytes_("CF-1.11")
            data = file.create_dataset("t", data=WORDS, chunks=(1, 16, 16), compression="gzip")
            data.attrs["_FillValue"] = WORDS[0, 0, 0]
            file["u"] = FLOATS[0]
        yield Example(folder / "a.nc", WORDS, WORDS[0, 0, 0] != WORDS, "t")

    def large(self, folder):
        with h5py.File(folder / "large.nc", "w") as file:
            file.create_dataset("t", data=LARGE, chunks=(1, 128, 128))
        return folder / "large.nc"


class TestZarr(ReaderTests):
    format = "Zarr"

    def examples(self, folder):
        for version in (2, 3):
            root = zarr.open_group(folder / f"a{version}.zarr", mode="w", zarr_format=version)
            kept = root.create_array("t", shape=WORDS.shape, dtype="i2", chunks=(1, 16, 16))
            kept[...] = WORDS
            yield Example(folder / f"a{version}.zarr", WORDS)


class TestNifti(ReaderTests):
    format = "NIfTI-1"

    def examples(self, folder):
        cube = RNG.integers(-99, 99, (6, 7, 8)).astype("i2")
        head = test_nifti.head(dims=(8, 7, 6), datatype=4)
        yield Example(put(folder, "a.nii", head + cube.tobytes()), cube.T[np.newaxis])

    def large(self, folder):
        head = test_nifti.head(dims=(120, 110, 90), datatype=4)
        return put(folder, "large.nii", head + bytes(120 * 110 * 90 * 2))


class TestDicom(ReaderTests):
    format = "DICOM"

    def examples(self, folder):
        yield Example(put(folder, "a.dcm", dicom_builder.image(BYTES[0])), BYTES[:1])
        packed = dicom_builder.encapsulated([imagecodecs.jpegls_encode(BYTES[0])])
        data = dicom_builder.image(BYTES[0], syntax="1.2.840.10008.1.2.4.80", packed=packed)
        yield Example(put(folder, "b.dcm", data), BYTES[:1])

    def large(self, folder):
        return put(folder, "large.dcm", dicom_builder.image(LARGE[0]))


WHOLE = ("u1", "u2", "u4", "u8", "i1", "i2", "i4", "i8", "f4", "f8")


class TestTiffWriter(WriterTests):
    ending = ".tif"
    types = (*WHOLE, "f2")


class TestFitsWriter(WriterTests):
    ending = ".fits"


class TestPngWriter(WriterTests):
    ending = ".png"
    types = ("u1", "u2")
    refused = ("i2", "u4", "f4")


class TestNpyWriter(WriterTests):
    ending = ".npy"
    types = (*WHOLE, "f2")


class TestNetcdfWriter(WriterTests):
    ending = ".nc"


class TestZarrWriter(WriterTests):
    ending = ".zarr"
    types = ("u1", "i4", "f4")


class TestRawWriter(WriterTests):
    ending = ".raw"


def test_the_builders_are_not_what_is_tested():
    assert io.BytesIO(tiff(image(BYTES[:1]))).getvalue()[:4] == b"II*\0"
