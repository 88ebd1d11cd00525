"""Every reader under mutated files: a raster or an error that says something, in bounds."""

from __future__ import annotations

import io
import resource
import warnings
import zipfile

import h5py
import imagecodecs
import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from tests.formats import dicom_builder, fits_builder

import spectrane as sp
from spectrane.analysis.description import describe
from spectrane.analysis.volume_description import describe_volume
from spectrane.engine import cache
from spectrane.formats.registry import open_source
from spectrane.model.errors import SpectraneError
from spectrane.model.window import whole

ARRAY = (np.arange(3 * 24 * 20).reshape(3, 24, 20) * 7 % 251).astype("u1")


def saved(save, *arguments, **options):
    file = io.BytesIO()
    save(file, *arguments, **options)
    return file.getvalue()


def hdf5():
    file = io.BytesIO()
    with h5py.File(file, "w") as root:
        root.create_dataset("d", data=ARRAY, chunks=(1, 8, 8), compression="gzip")
    return file.getvalue()


def seed_of(ending, tmp_path_factory):
    folder = tmp_path_factory.mktemp("seed")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        sp.from_array(ARRAY).save(folder / f"a{ending}")
    return (folder / f"a{ending}").read_bytes()


PLAIN = {
    "fits": fits_builder.image(ARRAY, extra=[("BLANK", 0), ("CTYPE3", "WAVE"), ("CRVAL3", 5.0)]),
    "fits table": fits_builder.empty()
    + fits_builder.table(
        [bytes(imagecodecs.rcomp_encode(row, nblock=32)) for row in ARRAY[0]], (24, 20), 8,
        extra=[("ZCMPTYPE", "RICE_1"), ("ZNAME1", "BYTEPIX"), ("ZVAL1", 1)],
    ),
    "npy": saved(np.save, ARRAY),
    "npz": saved(np.savez_compressed, a=ARRAY, b=ARRAY[0]),
    "jpeg": imagecodecs.jpeg8_encode(np.ascontiguousarray(ARRAY.transpose(1, 2, 0))),
    "jpeg 2000": imagecodecs.jpeg2k_encode(ARRAY[0], codecformat="jp2", level=0),
    "png": imagecodecs.png_encode(ARRAY[0]),
    "hdf5": hdf5(),
    "dicom": dicom_builder.image(ARRAY, frames=3, more=[
        *dicom_builder.plane(0), (0x00180088, "DS", "2")]),
    "dicom, implicit": dicom_builder.image(ARRAY[0], syntax=dicom_builder.IMPLICIT),
    "dicom, packed": dicom_builder.image(
        ARRAY[0], syntax="1.2.840.10008.1.2.4.80",
        packed=dicom_builder.encapsulated([imagecodecs.jpegls_encode(ARRAY[0])]),
    ),
}  # fmt: skip

edits = st.lists(
    st.one_of(
        st.tuples(st.just("byte"), st.floats(0, 1), st.integers(0, 255)),
        st.tuples(st.just("word"), st.floats(0, 1), st.sampled_from(
            [b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"9999", b"    ", b"-1  "])),
        st.tuples(st.just("cut"), st.floats(0, 1), st.just(0)),
        st.tuples(st.just("double"), st.floats(0, 1), st.integers(1, 400)),
    ), min_size=1, max_size=4,
)  # fmt: skip


def mutated(data, changes):
    data = bytearray(data)
    for kind, share, value in changes:
        # Most of what matters stands at the front.
        place = int(share**3 * max(0, len(data) - 1))
        if kind == "byte" and data:
            data[place] = value
        elif kind == "word":
            data[place : place + 4] = value
        elif kind == "cut":
            del data[place:]
        elif kind == "double":
            data[place:place] = data[place : place + value]
    return bytes(data)


def tried(path):
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            source = open_source(path)
            volume = len(source.shape) == 3
            str(describe_volume(source) if volume else describe(source, check=False))
            source.read([0], tuple((0, min(side, 64)) for side in source.shape))
            source.read([0], whole(source.shape), (5,) * len(source.shape), "nearest")
            source.close()
    except SpectraneError as error:
        assert str(error)
    cache.blocks.clear()
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 256 << 10


@pytest.mark.parametrize("name", PLAIN)
@settings(
    max_examples=80, deadline=None, database=None,
    suppress_health_check=[HealthCheck.function_scoped_fixture],
)  # fmt: skip
@given(changes=edits)
def test_a_raster_or_an_error_that_says_something(tmp_path, name, changes):
    path = tmp_path / "mutated"
    path.write_bytes(mutated(PLAIN[name], changes))
    tried(path)


@pytest.mark.parametrize("name", PLAIN)
def test_the_seeds_are_good(tmp_path, name):
    (tmp_path / "a").write_bytes(PLAIN[name])
    opened = sp.open(tmp_path / "a")
    if isinstance(opened, sp.Volume):
        np.testing.assert_array_equal(opened.voxels(physical=False), ARRAY.transpose(2, 1, 0))
        return
    assert opened.shape[1:] == (24, 20)
    opened.pixels()


@pytest.mark.parametrize("name", PLAIN)
@pytest.mark.parametrize("length", [0, 1, 9, 40, 200])
def test_short_files(tmp_path, name, length):
    (tmp_path / "a").write_bytes(PLAIN[name][:length])
    tried(tmp_path / "a")


def test_an_archive_that_unpacks_to_a_bomb_is_refused(tmp_path):
    head = saved(np.save, np.zeros((1, 1), "u1"))
    bomb = head.replace(b"(1, 1)", b"(9000,90000)")[: len(head) - 1] + bytes(60_000_000)
    with zipfile.ZipFile(tmp_path / "a.npz", "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.npy", bomb)
    tried(tmp_path / "a.npz")
