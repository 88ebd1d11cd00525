"""Chunks of HDF5 files, unpacked by ours, against what the library packed, or was given packed."""

from __future__ import annotations

import h5py
import numpy as np
import pytest
from tests.formats.hdf5_builder import PACKED, add_packed

import spectrane as sp

SHAPE, CHUNK = (3, 200, 310), (2, 96, 128)  # chunks stick out at three edges


@pytest.fixture
def numbers(rng):
    return (rng.integers(0, 40, SHAPE).cumsum(2) - 1500).astype("i2")


def values(path, bands=(1, 2, 3), rows=(0, 200), columns=(0, 310), **how):
    with sp.open(path, **how) as raster:
        return raster.select(list(bands)).crop(rows=rows, columns=columns).pixels()


@pytest.mark.parametrize(
    ("kind", "options"),
    [
        ("<i2", {"compression": "gzip"}),
        (">i2", {"compression": "gzip", "shuffle": True, "fletcher32": True}),
        ("<f8", {"compression": 9, "shuffle": True}),
        ("<f4", {"compression": "gzip", "fletcher32": True, "fillvalue": -7}),
        ("<i2", {"compression": "lzf", "shuffle": True}),  # left to the library, as those below
        ("<i4", {"compression": "gzip", "scaleoffset": 0}),
        ("<i4", {"shuffle": True}),
    ],
)
def test_chunks_hold_what_was_packed(tmp_path, numbers, kind, options):
    with h5py.File(tmp_path / "a.h5", "w") as file:
        kept = file.create_dataset("a", SHAPE, kind, chunks=CHUNK, **options)
        kept[:, :96] = numbers[:, :96]  # the chunks below them are not written
        kept[:, 150:] = numbers[:, 150:]
        kept.id.write_direct_chunk((0, 96, 128), np.full(CHUNK, 5, kind).tobytes(), 0xFFFF)
    with h5py.File(tmp_path / "a.h5") as file:
        wanted = file["a"][...]
    np.testing.assert_array_equal(values(tmp_path / "a.h5"), wanted)
    part = values(tmp_path / "a.h5", (2,), (90, 199), (100, 309))
    np.testing.assert_array_equal(part, wanted[1:2, 90:199, 100:309])


@pytest.mark.parametrize("shuffled", [False, True])
@pytest.mark.parametrize("number", PACKED)
def test_filters_that_the_library_lacks(tmp_path, numbers, number, shuffled):
    path = tmp_path / "a.nc"
    with h5py.File(path, "w") as file:
        add_packed(file, "a", numbers, CHUNK, number, shuffled=shuffled)
    np.testing.assert_array_equal(values(path), numbers)
    assert values(path, (3,), (7, 8), (9, 10)).item() == numbers[2, 7, 9]


def test_a_filter_that_nobody_knows_is_told(tmp_path, numbers):
    path = tmp_path / "a.h5"
    with h5py.File(path, "w") as file:
        add_packed(file, "a", numbers[0], (8, 8), 32008, pack=lambda data, item: b"abc")
    with (
        sp.open(path) as raster,
        pytest.raises(sp.FormatError, match="/a: is packed by filter 32008"),
    ):
        raster.pixels()


@pytest.mark.parametrize(
    ("options", "spoiled", "problem"),
    [
        ({"compression": "gzip"}, "middle", r"the chunk at \(0, 0, 128\): "),
        ({"compression": "gzip", "fletcher32": True}, "end", r"its checksum is [0-9a-f]{8}; "),
    ],
)
def test_a_damaged_chunk_is_told_or_left_out(tmp_path, numbers, options, spoiled, problem):
    path = tmp_path / "a.h5"
    with h5py.File(path, "w") as file:
        kept = file.create_dataset("a", data=numbers, chunks=CHUNK, **options)
        where = kept.id.get_chunk_info_by_coord((0, 0, 128))
    content = bytearray(path.read_bytes())
    place = where.byte_offset + (where.size // 2 if spoiled == "middle" else where.size - 1)
    content[place : place + 40 if spoiled == "middle" else place + 1] = (
        b"\xff" * 40 if spoiled == "middle" else bytes([content[place] ^ 0x55])
    )
    path.write_bytes(content)
    with pytest.raises(sp.FormatError, match=problem):
        values(path)
    with pytest.warns(UserWarning, match="damaged"):
        found = values(path, damaged="keep")
    sound = np.ones(SHAPE, bool)
    sound[:2, :96, 128:256] = False
    np.testing.assert_array_equal(~found.mask, sound)
    np.testing.assert_array_equal(found.data[sound], numbers[sound])
