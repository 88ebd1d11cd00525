"""Bytes from anywhere, by range."""

from __future__ import annotations

import os
import pickle

import fsspec
import numpy as np
import pytest

from spectrane.engine import files
from spectrane.engine.files import open_bytes
from spectrane.engine.memory import ArraySource
from spectrane.formats.registry import open_source
from spectrane.formats.tiff.writer import write_tiff
from spectrane.model.errors import AccessError, ChangedFile, FormatError, MissingFile
from spectrane.model.window import whole


@pytest.fixture
def scene(tmp_path, rng):
    array = rng.integers(0, 65536, (2, 1500, 1500)).astype("u2")
    write_tiff(ArraySource(array), tmp_path / "scene.tif")
    return array, (tmp_path / "scene.tif").read_bytes()


def test_files_in_memory(scene):
    array, data = scene
    memory = fsspec.filesystem("memory")
    memory.pipe("/folder/scene.tif", data)
    source = open_source("memory://folder/scene.tif")
    np.testing.assert_array_equal(source.read([0, 1], whole(source.shape)).values, array)
    kept = pickle.dumps(source)
    memory.pipe("/folder/scene.tif", data + b"more")
    with pytest.raises(ChangedFile, match="changed after it was opened"):
        pickle.loads(kept)


@pytest.mark.parametrize(
    ("ranges", "fetched"),
    [
        ([(0, 10), (10, 10)], [(0, 20)]),
        ([(100, 10), (0, 10)], [(0, 110)]),
        ([(0, 10), (600, 10)], [(0, 10), (600, 10)]),
        ([(5, 10), (5, 10), (7, 2)], [(5, 10)]),
        ([(20, 0)], [(20, 0)]),
        ([], []),
    ],
)
def test_neighbouring_ranges_are_fetched_together(tmp_path, ranges, fetched):
    data = bytes(range(256)) * 4
    (tmp_path / "a").write_bytes(data)
    file = open_bytes(tmp_path / "a")
    asked = []
    plain = file.fetch
    file.fetch = lambda these: asked.extend(these) or plain(these)
    assert file.read_ranges(ranges) == [data[o : o + n] for o, n in ranges]
    assert asked == fetched


@pytest.mark.parametrize(("offset", "length"), [(0, 11), (11, 1), (-1, 2), (5, -1)])
def test_ranges_outside_the_file_are_refused(tmp_path, offset, length):
    (tmp_path / "a").write_bytes(b"0123456789")
    with pytest.raises(FormatError, match="past the end of the file"):
        open_bytes(tmp_path / "a").read(offset, length)


@pytest.mark.parametrize(
    ("name", "kind", "match"),
    [
        ("none.tif", MissingFile, "no such file"),
        ("no/folder/none.tif", MissingFile, "no folder"),
        ("", AccessError, "is a folder, not a file"),
    ],
)
def test_what_cannot_be_opened_is_told(tmp_path, name, kind, match):
    with pytest.raises(kind, match=match):
        open_bytes(str(tmp_path / name))


def test_an_unknown_protocol_is_told():
    with pytest.raises(AccessError, match="nowhere://"):
        open_bytes("nowhere://a/b.tif")


def test_few_files_are_open_at_once_however_many_are_read(tmp_path, monkeypatch):
    monkeypatch.setattr(files, "MOST_OPEN", 3)
    made = []
    for k in range(12):
        path = tmp_path / f"{k}.bin"
        path.write_bytes(bytes([k]) * 10)
        made.append(files.LocalFile(path))
    for _ in range(2):
        assert [one.read(3, 1)[0] for one in made] == list(range(12))
    assert sum(one.open for one in made) <= 3
    with made[0].reading() as number:
        assert not made[0].rest()
        assert os.pread(number, 1, 0) == b"\0"
    (tmp_path / "5.bin").write_bytes(b"other")
    with pytest.raises(ChangedFile):
        made[5].read(0, 1)
