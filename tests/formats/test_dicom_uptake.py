"""Standardised uptake values from a PET file's own elements, against the formula by hand."""

from __future__ import annotations

import json

import numpy as np
import pytest
from click.testing import CliRunner
from tests.formats.dicom_builder import image

import spectrane as sp
from spectrane.cli.entry import commands

DOSE, WEIGHT, HALF_LIFE = 370e6, 72.5, 6586.2
SEQUENCE = 0x00540016


def planes(folder, *, more=(), without=(), dose=(), no_dose=(), times=("093000", "093000"),
           slopes=(2.5, 4.0)):  # fmt: skip
    """Write two planes of a PET series; return the stored numbers."""
    folder.mkdir(exist_ok=True)
    stored = np.arange(24, dtype="u2").reshape(2, 3, 4) * 50
    held = {0x00181072: ("TM", "083000"), 0x00181074: ("DS", str(DOSE)),
            0x00181075: ("DS", str(HALF_LIFE))} | {tag: (vr, v) for tag, vr, v in dose}  # fmt: skip
    item = [(tag, *one) for tag, one in held.items() if tag not in no_dose]
    for k, plane in enumerate(stored):
        given = [
            (0x00080060, "CS", "PT"), (0x00541001, "CS", "BQML"), (0x00541102, "CS", "START"),
            (0x00280051, "CS", "DECY\\ATTN"), (0x00101030, "DS", str(WEIGHT)),
            (0x00080022, "DA", "20260301"), (0x00080032, "TM", times[k]),
            (SEQUENCE, "SQ", [item]), (0x00080018, "UI", f"1.2.{k}"),
            (0x00281053, "DS", str(slopes[k])), (0x00281052, "DS", "0"),
            (0x00200013, "IS", str(k + 1)), (0x00280030, "DS", "2\\2"),
            (0x00200032, "DS", f"0\\0\\{3 * k}"), (0x00200037, "DS", "1\\0\\0\\0\\1\\0"), *more,
        ]  # fmt: skip
        (folder / f"{k}.dcm").write_bytes(image(plane, more=given, without=without))
    return stored * np.array(slopes).reshape(2, 1, 1)


def factor(seconds):
    return WEIGHT * 1000 / (DOSE * 2 ** (-seconds / HALF_LIFE))


CASES = {  # what differs -> seconds from injection to the time that is corrected to
    "a time on the day of acquisition": ({}, 3600),
    "the earliest plane counts": ({"times": ("100000", "091500.5")}, 2700.5),
    "an injection before midnight": ({"dose": [(0x00181072, "TM", "233000")]}, 36000),
    "a date and time of injection": ({"dose": [(0x00181078, "DT", "20260301080000.25")]}, 5399.75),
    "in a zone of its own": ({"dose": [(0x00181078, "DT", "20260301093000+0200")],
                              "more": [(0x00080201, "SH", "+0100")]}, 3600),
    "corrected to injection": ({"more": [(0x00541102, "CS", "ADMIN")], "no_dose": [0x00181075]}, 0),
    "corrected to a time that is said": (
        {"more": [(0x00541102, "CS", "NONE"), (0x00189701, "DT", "20260301090000")]}, 1800),
}  # fmt: skip


@pytest.mark.parametrize("name", CASES)
def test_uptake_by_body_weight(tmp_path, name):
    given, seconds = CASES[name]
    values = planes(tmp_path / "pet", **given)
    volume = sp.open(tmp_path / "pet")
    made = volume.convert("SUV")
    found = made.voxels()
    assert made.frames[0].unit == "SUV"
    by_plane = np.stack([found[:, :, k].T for k in range(2)])
    by_plane = by_plane[::-1] if by_plane[0, 0, 0] > by_plane[1, 0, 0] else by_plane
    np.testing.assert_allclose(np.sort(by_plane.ravel()), np.sort(values.ravel()) * factor(seconds),
                               rtol=1e-5)  # fmt: skip
    assert made.convert("SUV").frames == made.frames


MISSING = {
    "weight": ({"without": [0x00101030]}, r"does not say PatientWeight \(0010,1030\)$"),
    "dose": ({"no_dose": [0x00181074]}, r"RadionuclideTotalDose \(0018,1074\)$"),
    "half-life": ({"no_dose": [0x00181075]}, r"RadionuclideHalfLife \(0018,1075\)$"),
    "injection": ({"no_dose": [0x00181072]}, "RadiopharmaceuticalStartDateTime"),
    "acquisition": ({"without": [0x00080032]}, "AcquisitionDate and AcquisitionTime"),
    "correction": ({"without": [0x00541102]}, r"DecayCorrection \(0054,1102\)$"),
    "all of the dose": ({"without": [SEQUENCE]}, "TotalDose.*HalfLife.*StartDateTime"),
    "a weight of 0": ({"more": [(0x00101030, "DS", "0")]}, "PatientWeight .* is 0"),
    "no correction": ({"more": [(0x00541102, "CS", "NONE")]}, "not corrected for decay"),
    "contradiction": ({"more": [(0x00280051, "CS", "ATTN")]}, "does not hold DECY"),
    "order": ({"dose": [(0x00181078, "DT", "20260301120000")]}, "given after acquisition began"),
    "counts": ({"more": [(0x00541001, "CS", "CNTS")]}, "expected activity per millilitre"),
}


@pytest.mark.parametrize("name", MISSING)
def test_what_a_file_does_not_say_is_named(tmp_path, name):
    given, message = MISSING[name]
    planes(tmp_path / "pet", **given)
    with pytest.raises(sp.MetadataError, match=message):
        sp.open(tmp_path / "pet").convert("SUV")


def test_uptake_on_the_command_line_and_no_silent_relabelling(tmp_path):
    values = planes(tmp_path / "pet")
    out = tmp_path / "suv.nii"
    done = CliRunner().invoke(commands, ["export", str(tmp_path / "pet"), "-o", str(out), "--unit",
                                         "SUV", "--json"])  # fmt: skip
    assert done.exit_code == 0, done.output
    assert sp.open(out).frames[0].unit == "SUV"
    assert sp.open(out).voxels().max() == pytest.approx(values.max() * factor(3600), rel=1e-5)
    told = json.loads(CliRunner().invoke(commands, ["describe", str(tmp_path / "pet"), "--json"])
                      .output)["results"][0]  # fmt: skip
    assert "acquired from" in told["identity"]
    assert "0930" not in json.dumps(told)
    with pytest.warns(sp.DataWarning, match="said SUV and now say HU.*numbers stay"):
        sp.amend(out, bands={1: {"unit": "HU"}})
    unattenuated = tmp_path / "plain"
    planes(unattenuated, more=[(0x00280051, "CS", "DECY")])
    with pytest.warns(sp.DataWarning, match="attenuation"):
        sp.open(unattenuated).convert("SUV")
