"""Layouts of headerless binaries from notes, offered by surveys, and doubted where scrambled."""

from __future__ import annotations

import json
from pathlib import Path

import numpy as np
import pytest

import spectrane as sp
from spectrane.formats.raw import doubt, file_of
from spectrane.formats.raw_notes import TYPES, WORDS, layout_in
from spectrane.formats.sidecar_schema import RawTable
from spectrane.model.errors import MetadataError

NOTED = [
    ("rows 30\ncolumns 40\n", {"rows": 30, "columns": 40}),
    ("# a scan\nlines = 30\nsamples = 40\nbands = 3\ninterleave = BIL\nbyte order = big endian\n"
     "header offset = 128\ndata type = uint16\n",
     {"rows": 30, "columns": 40, "bands": 3, "interleave": "bil", "order": "big", "header": 128,
      "type": "uint16"}),
    ("Height: 30\nWidth: 40 pixels\nBits: 16\nByte_Order: Intel\n",
     {"rows": 30, "columns": 40, "type": "uint16", "order": "little"}),
    ("a file, 8 bits, no header\nROWS = 30 ;\nCOLS = 40 ;\npixel type = \"unsigned short\"\n",
     {"rows": 30, "columns": 40, "type": "uint16"}),
    ("nlines 30\nnsamples 40\nskip 12\nchannels 2\n",
     {"rows": 30, "columns": 40, "header": 12, "bands": 2}),
    ("rows = 30\ncolumns = 40\ntype = 16 bit signed\nheader size (bytes) = 4\n",
     {"rows": 30, "columns": 40, "type": "int16", "header": 4}),
]  # fmt: skip


@pytest.mark.parametrize(("text", "wanted"), NOTED)
def test_layouts_of_notes(text, wanted, tmp_path):
    path = tmp_path / "a.txt"
    path.write_text(text)
    assert layout_in(path) == wanted


WRONG = [
    ("data type = 12\nrows = 3\n", "a code.*--type"), ("byte order = 0\n", "a code.*--order"),
    ("rows = many\n", "expected a whole number"), ("type = unt16\n", "uint16"),
    ("rows = 3\nlines = 4\n", "rows and lines say different rows: 3 and 4"),
    ("rows = 3\nrows = 4\n", "its lines of rows say different rows: 3 and 4"),
    ("bits = 32\n", "several types"), ("sky = blue\n", "nothing of"),
    ("type = uint8\nbits = 16\n", "says the type uint8 and 16 bits"),
    ("interleave = zigzag\n", "zigzag"), ("byte order = middle\n", "middle"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "told"), WRONG)
def test_notes_that_say_nothing_usable(text, told, tmp_path, run):
    path, data = tmp_path / "a.txt", tmp_path / "a.bin"
    path.write_text(text)
    data.write_bytes(bytes(12))
    with pytest.raises(MetadataError, match=told):
        layout_in(path)
    assert run("raw", data, "--from", path)[0] == 1
    path.write_text("rows = 3\ncolums = 4\n")
    assert "a.txt: says no columns; say --columns" in run("raw", data, "--from", path)[2]
    assert not list(tmp_path.glob("*.toml"))


def picture(rows=60, columns=90, bands=1, dtype="u2"):
    y, x = np.mgrid[:rows, :columns]
    one = 3000 + 2500 * np.sin(x / 25 + y / 40) * np.cos(y / 30)
    return np.stack([one + 400 * k * np.cos(x / 19) for k in range(bands)]).astype(dtype)


def test_notes_are_read_checked_and_overruled(tmp_path, run):
    values, data, notes = picture(bands=3), tmp_path / "a.bin", tmp_path / "a.hdr"
    data.write_bytes(bytes(16) + values.astype(">u2").transpose(1, 0, 2).tobytes())
    notes.write_text("lines = 60\nsamples = 90\nbands = 3\ntype = uint16\nbyte order = big\n"
                     "interleave = bil\noffset = 16\n")  # fmt: skip
    rows = sp.survey(tmp_path)
    assert rows["format"].tolist() == ["headerless"]
    assert "a.hdr beside it says 60 rows x 90 columns x 3 bands bil" in rows["problem"][0]
    assert "fits its size" in rows["problem"][0]
    status, out, _ = run("survey", tmp_path)
    assert (status, "undescribed" in out, "1 of them headerless" in out) == (0, True, True)
    status, out, err = run("raw", data, "--from", notes, "--json")
    assert (status, err) == (0, "")
    assert json.loads(out)["results"][0]["layout"]["header"] == 16
    np.testing.assert_array_equal(sp.open_raster(data).pixels().filled(0), values)
    notes.write_text(notes.read_text().replace("= 16", "= 15"))
    assert run("raw", data, "--from", notes, "--overwrite")[0] == 1
    assert run("raw", data, "--from", notes, "--overwrite", "--header", "16")[0] == 0
    guessed = run("raw", data, "--from", notes, "--header", "16", "--guess")[1]
    assert "60 rows x 90 columns x 3 bands bil of uint16 big" in guessed.splitlines()[0]


SCRAMBLED = [
    ({"rows": 90, "columns": 60}, "rows and columns are swapped"),
    ({"order": "big"}, "the byte order is little, not big"),
    ({}, None),
]  # fmt: skip


@pytest.mark.parametrize(("changes", "told"), SCRAMBLED)
def test_a_scrambled_layout_is_told_at_every_load(changes, told, tmp_path, run):
    data = tmp_path / "a.bin"
    data.write_bytes(picture().tobytes())
    layout = {"rows": 60, "columns": 90, "type": "uint16"} | changes
    options = [text for name, value in layout.items() for text in (f"--{name}", str(value))]
    status, _, err = run("raw", data, *options)
    assert (status, told is not None and told in err) == (0, told is not None)
    for command in ("describe", "render"):
        output = ["-o", tmp_path / "o.png", "--overwrite"] if command == "render" else []
        err = run(command, data, *output)[2]
        assert ("looks scrambled" in err) == (told is not None)


def test_noise_flat_and_interleaved_bands_are_not_doubted_without_reason(tmp_path):
    data = tmp_path / "a.bin"
    for values, layout in (
        (np.random.default_rng(1).integers(0, 255, (40, 30)).astype("u1"), {}),
        (np.full((40, 30), 7, "u1"), {}), (np.zeros((40, 30), "f4"), {"type": "float32"}),
        (picture(40, 30, dtype="f4")[0], {"type": "float32"}),
    ):  # fmt: skip
        data.write_bytes(values.tobytes())
        table = RawTable.model_validate({"rows": 40, "columns": 30} | layout)
        assert doubt(file_of(data), table) is None
    data.write_bytes(picture(40, 30, 4).transpose(1, 2, 0).tobytes())
    table = RawTable(rows=40, columns=30, bands=4, type="uint16", interleave="bsq")
    assert "the interleave is bip, not bsq" in str(doubt(file_of(data), table))


def test_the_words_are_published():
    text = (Path(__file__).parents[2] / "docs/daily-work.md").read_text(encoding="utf-8")
    for part, words in WORDS.items():
        assert f"| {part} | {', '.join(words)} |" in text
    for name, kind in TYPES.items():
        assert f"{name} ({kind})" in text
