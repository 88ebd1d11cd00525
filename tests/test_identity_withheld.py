"""What a DICOM file says of somebody, and its name, stand in nothing that is handed on."""

from __future__ import annotations

import contextlib
import gzip
import json
import zlib

import numpy as np
import pytest
from click.testing import CliRunner
from tests.formats.dicom_builder import image

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.formats.dicom.dictionary import TAGS, known
from spectrane.formats.dicom.identity import identifies

NAME = "MAREBRAMBLE"
_TEXTS = {"AE", "CS", "LO", "LT", "PN", "SH", "ST", "UC", "UT"}


def planted():
    """Return the name in every element that identifies, in private ones and in their creators."""
    given = [(tag, known(tag)[0], NAME) for keyword, tag in TAGS.items()
             if (identifies(keyword) and known(tag)[0] in _TEXTS and tag >> 16 > 8) or keyword in (
                 "InstitutionName", "StudyDescription", "SeriesDescription", "AccessionNumber",
                 "ReferringPhysicianName", "StationName", "OperatorsName")]  # fmt: skip
    return [*given, (0x00090010, "LO", f"{NAME} CREATOR"), (0x00091001, "LO", NAME),
            (0x00091002, "SQ", [[(0x00100010, "PN", NAME)]])]  # fmt: skip


@pytest.fixture(scope="module")
def folder(tmp_path_factory):
    """A series, an image and a map of one patient in folders and files of the patient's name."""
    top = tmp_path_factory.mktemp("given") / NAME
    (top / NAME).mkdir(parents=True)
    rng = np.random.default_rng(1)
    for k in range(6):
        more = [(0x00200032, "DS", f"0\\0\\{3 * k}"), (0x00200037, "DS", "1\\0\\0\\0\\1\\0"),
                (0x00280030, "DS", "2\\2"), (0x00200011, "IS", "3"), (0x00080060, "CS", "CT"),
                (0x00080018, "UI", f"1.2.{k}"), *planted()]  # fmt: skip
        pixels = rng.integers(0, 1200, (24, 20)).astype("i2")
        (top / NAME / f"{NAME}{k}").write_bytes(image(pixels, more=more))
    flat = [(0x00280030, "DS", "1\\1"), (0x00080060, "CS", "DX"), *planted()]
    (top / f"{NAME}.dcm").write_bytes(image(rng.integers(0, 900, (40, 30)).astype("u2"), more=flat))
    return top


def commands_on(series, flat, out):
    """Return command lines that write each kind of output there is."""
    yield from (
        f"slices {series} -o {out}/a.png",
        f"slices {series} -o {out}/m.png --plane axial --map {series} --threshold band(1)>600 "
        f"--csv {out}/groups.csv --survivors {out}/survivors.svg",
        f"slices {series} -o {out}/b.png --plane axial --beside {series}",
        f"export {series} -o {out}/a.nii", f"export {series} {series} -o {out}/two.nii.gz --join",
        f"export {series} -o {out}/c.nii --compute double=band(1)*2",
        f"histogram {series} -o {out}/h.svg", f"histogram {flat} -o {out}/h2.svg",
        f"probe {series} --voxel-at 1,1,1 --csv {out}/p.csv",
        f"probe {series} --voxel-at 1,1,1 --profile {out}/p.svg",
        f"probe {flat} --pixel-at 1,1 --csv {out}/q.csv",
        f"render {flat} -o {out}/r.png --caption {{file}}", f"render {flat} -o {out}/r.jpg",
        f"render {flat} -o {out}/r.tif", f"compare {flat} {flat} -o {out}/cmp.svg",
        f"overlay {flat} {flat} -o {out}/o.png", f"page {flat} -o {out}/page.html",
        f"page {flat} {flat} -o {out}/two.html",
        f"export {flat} -o {out}/a.tif", f"export {flat} -o {out}/a.png --type uint8 --rescale "
        "limits", f"export {flat} -o {out}/a.nc", f"export {flat} -o {out}/a.fits",
        f"export {flat} {flat} -o {out}/j.tif --join", f"export {flat} -o {out}/a.npy",
        f"clip {flat} -o {out}/clip.tif --row-range 0,9", f"sheet {series} -o {out}/s.svg",
        f"sheet {flat} -o {out}/s2.svg", f"sheet {flat} -o {out}/s2.png",
        f"tiles {flat} -o {out}/tiles --zooms 0,1", f"place {flat} -o {out}/pl.tif --bounds "
        "0,0,3,4", f"describe {series} --json --metadata", f"describe {flat} --json --metadata",
        f"describe {flat}", f"describe {series} --statistics",
    )  # fmt: skip


def everything_in(data):
    """Return a file's bytes, and what is packed in it by DEFLATE."""
    found = [data]
    if data[:2] == b"\x1f\x8b":
        found.append(gzip.decompress(data))
    place = data.find(b"\x78")
    while place >= 0 and len(data) < 400_000:
        with contextlib.suppress(zlib.error):
            found.append(zlib.decompressobj().decompress(data[place:], 1 << 20))
        place = data.find(b"\x78", place + 1)
    return b"\n".join(found)


def test_nothing_that_is_handed_on_names_anybody(folder, tmp_path):
    out = tmp_path / "out"
    out.mkdir()
    done = 0
    for line in commands_on(folder / NAME, folder / f"{NAME}.dcm", out):
        result = CliRunner().invoke(commands, line.split())
        assert result.exit_code in (0, 1, 2), line
        said = result.output.replace(str(folder), "")
        said = said.replace(f"/{NAME}", "")  # the paths that were typed
        assert NAME not in said, (line, said)
        done += result.exit_code == 0
    assert done > 25
    written = [path for path in out.rglob("*") if path.is_file()]
    assert len(written) > 25
    for path in written:
        assert NAME.encode() not in everything_in(path.read_bytes()), path
        assert NAME.encode("utf-16-le") not in path.read_bytes(), path


def test_names_that_are_asked_for_are_there(folder, tmp_path):
    volume, raster = sp.open(folder / NAME), sp.open(folder / f"{NAME}.dcm")
    assert (volume.title, raster.title) == ("CT series 3", "DX image")
    assert NAME in volume.source
    assert volume.metadata["PatientName"] == NAME
    told = json.loads(CliRunner().invoke(commands, ["describe", str(folder / NAME), "--identity",
                                                    "--metadata", "--json"]).output)  # fmt: skip
    assert NAME in json.dumps(told)
    sp.render(raster).save(tmp_path / "own.png")
    named = sp.overlay([sp.Layer(raster, name=NAME)])
    named.save(tmp_path / "named.png")
    assert NAME in str(sp.open(tmp_path / "named.png").metadata)
    assert NAME not in str(sp.open(tmp_path / "own.png").metadata)
