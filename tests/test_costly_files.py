"""Small files that claim much: refused, cut short or asked about, at once."""

from __future__ import annotations

import gzip
import io
import resource
import zipfile
from types import SimpleNamespace

import click
import h5py
import numpy as np
import pytest
import zarr
from click.testing import CliRunner
from tests.formats import fits_builder
from tests.formats.test_nifti import head
from tests.tiff_builder import DEFLATE, image, tiff

import spectrane as sp
from spectrane import surveying
from spectrane.cli import options
from spectrane.cli.entry import commands
from spectrane.engine import pyramid
from spectrane.formats.registry import open_file
from spectrane.model import patience
from spectrane.model.window import blocks_touching

MANY = np.zeros((60_000, 1, 1), "u1")


def saved(save, *given, **named):
    file = io.BytesIO()
    save(file, *given, **named)
    return file.getvalue()


def hdf5(shape, chunks, **named):
    file = io.BytesIO()
    with h5py.File(file, "w") as root:
        root.create_dataset("d", shape, "u1", chunks=chunks, **named)
    return file.getvalue()


def zipped(text):
    file = io.BytesIO()
    with zipfile.ZipFile(file, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("doc.kml", text)
    return file.getvalue()


DESCRIBED = {
    "bands.npz": lambda: saved(np.savez_compressed, a=MANY),
    "bands.npy": lambda: saved(np.save, MANY),
    "bands.tif": lambda: tiff(image(MANY, compression=DEFLATE)),
    "bands.fits": lambda: fits_builder.image(MANY),
    "bands.nc": lambda: hdf5(MANY.shape, MANY.shape, compression="gzip"),
    "frames.nii": lambda: head(dims=(1, 1, 1, 30_000), datatype=2) + bytes(30_000),
    "claims.nc": lambda: hdf5((2**40, 2**20), (1000, 1000)),
}
REFUSED = {
    "frames.nii": (lambda: head(dims=(1, 1, 1, 900, 900), datatype=2) + bytes(900**2), "810000 fr"),
    "more.nii.gz": (lambda: gzip.compress(head(dims=(900, 900, 900))), "needs 1458000352 bytes"),
    "planes.nc": (lambda: hdf5((2**20, 9, 9), (1, 9, 9)), "claims 1048576 bands"),
    "bands.npy": (lambda: saved(np.save, np.zeros((70_000, 1, 1), "u1")), "claims 70000 bands"),
    "bands.npz": (lambda: saved(np.savez_compressed, a=np.zeros((70_000, 1, 1), "u1")), "70000"),
}


@pytest.fixture(autouse=True)
def costs():
    """Hold each test to the memory that a small file may cost."""
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    yield
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before < 256 << 10


@pytest.mark.parametrize("name", DESCRIBED)
def test_lists_are_cut_with_a_count(tmp_path, name):
    (tmp_path / name).write_bytes(DESCRIBED[name]())
    with sp.open(tmp_path / name) as opened:
        said = opened.describe()
    count = len(said.bands)
    assert len(str(said).splitlines()) < 540
    told = (f"… and {count - 500} more", f"{count} frames, of which these are the first and the")
    assert count == 1 or any(words in str(said) for words in told)
    assert len(said.to_dict()[f"{said.unit_of_bands}s"]) == count


@pytest.mark.parametrize("name", REFUSED)
def test_claims_are_refused(tmp_path, name):
    make, words = REFUSED[name]
    (tmp_path / name).write_bytes(make())
    with pytest.raises(sp.FormatError, match=words):
        sp.open(tmp_path / name)


@pytest.mark.parametrize("text", [
    "<kml><Document>" + "x" * (17 << 20) + "</Document></kml>",
    "<kml><Document>" + "<Placemark/>" * 300_000 + "</Document></kml>",
    "<kml>" + "<Folder>" * 100_000,
])  # fmt: skip
def test_a_document_is_bounded(tmp_path, text):
    (tmp_path / "a.kmz").write_bytes(zipped(text))
    with pytest.raises(sp.FormatError, match="larger than 16 MB|more than 200000|not KML"):
        sp.pages.read_kml(tmp_path / "a.kmz")


def test_a_job_of_days_is_asked_about(tmp_path, monkeypatch):
    path = tmp_path / "claims.zarr"
    zarr.open_group(path, mode="w").create_array(
        "d", shape=(2**40, 2**20), dtype="u1", chunks=(1000, 1000)
    )
    raster = sp.open(path)
    for job in (lambda: sp.render(raster), lambda: raster.statistics(),
                lambda: raster.save(tmp_path / "a.tif")):  # fmt: skip
        with pytest.raises(
            sp.ResourceError, match="numbers would be read, .* days; ask for a part"
        ):
            job()
    assert raster.pixels(rows=(2**39, 2**39 + 2), columns=(0, 2)).sum() == 0
    asked = CliRunner().invoke(commands, ["render", str(path), "-o", str(tmp_path / "a.png")])
    assert isinstance(asked.exception, patience.LongJob)
    # Somebody at a terminal is asked, and may agree.
    questions = []
    monkeypatch.setattr(
        options,
        "sys",
        SimpleNamespace(
            stdin=SimpleNamespace(isatty=lambda: True), stderr=SimpleNamespace(isatty=lambda: True)
        ),
    )
    monkeypatch.setattr(click, "confirm", lambda text, **_: questions.append(text))
    sp.from_array(np.ones((2000, 2500), "u1")).save(tmp_path / "b.npy")
    monkeypatch.setattr(patience, "MOST_NUMBERS", 10)
    monkeypatch.setattr(pyramid, "AT_ONCE", 1000)
    done = CliRunner().invoke(
        commands, ["render", str(tmp_path / "b.npy"), "-o", str(tmp_path / "b.png")]
    )
    assert done.exit_code == 0
    assert (tmp_path / "b.png").exists()
    assert len(questions) == 1
    assert "Begin it all the same?" in questions[0]


def test_blocks_are_positions_made_when_they_are_asked_for():
    blocks = blocks_touching(((5, 2**40), (0, 9)), (4, 4))
    assert blocks[0] == (1, 0)
    assert blocks[-1] == (2**38 - 1, 2)
    assert blocks[3:5] == [(2, 0), (2, 1)]
    few = blocks_touching(((0, 9), (3, 9), (1, 2)), (4, 4, 4))
    assert list(few) == [few[k] for k in range(len(few))]
    with pytest.raises(IndexError):
        few[len(few)]


def test_what_no_format_begins_with_is_not_opened(tmp_path, monkeypatch):
    for number in range(500):
        (tmp_path / f"{number}.txt").write_bytes(b"text" * number)
    sp.from_array(np.ones((2, 2), "u1")).save(tmp_path / "a.tif")
    opened = []
    monkeypatch.setattr(
        surveying, "open_file", lambda path, *told: opened.append(path) or open_file(path, *told)
    )
    assert [row["format"] for row in sp.survey_rows(tmp_path)] == ["TIFF"]
    assert opened == [str(tmp_path / "a.tif")]
