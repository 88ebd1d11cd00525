"""Maps of statistics: what NIfTI files say of them, and what passes, against SciPy."""

from __future__ import annotations

import json
import struct

import numpy as np
import pytest
from click.testing import CliRunner
from scipy import stats

import spectrane as sp
from spectrane.cli.entry import commands

AFFINE = np.diag([2.0, 2.0, 2.0, 1.0])


def run(*words):
    done = CliRunner().invoke(commands, [str(word) for word in words])
    assert done.exit_code == 0, done.output
    return done.output


def nifti(path, values, code, parameters=(), *, version=1, name=b"", more=()):
    """Write a volume, then set intent fields by their bytes in nifti1.h and nifti2_io.h."""
    sp.volume_from_array(np.asarray(values, "f4"), affine=AFFINE).save(path, version=version)
    data = bytearray(path.read_bytes())
    given = (*parameters, 0, 0, 0)[:3]
    if version == 1:
        struct.pack_into("<3fh", data, 56, *given, code)
        data[328:344] = name.ljust(16, b"\0")
    else:
        struct.pack_into("<3d", data, 80, *given)
        struct.pack_into("<i", data, 504, code)
        data[508:524] = name.ljust(16, b"\0")
    for form, place, value in more:
        struct.pack_into(form, data, place, value)
    path.write_bytes(data)
    return path


def t_of_r(r, dof):
    return r * np.sqrt(dof / (1 - r * r))


KINDS = {  # code, parameters, values of a normal sample, two-sided p of values
    "t(12)": (3, (12,), lambda n: n * 2, lambda v: 2 * stats.t.sf(np.abs(v), 12)),
    "F(2,30)": (4, (2, 30), lambda n: np.abs(n) * 3, lambda v: stats.f.sf(v, 2, 30)),
    "z": (5, (), lambda n: n * 2, lambda v: 2 * stats.norm.sf(np.abs(v))),
    "chi2(3)": (6, (3,), lambda n: n**2 * 4, lambda v: stats.chi2.sf(v, 3)),
    "correlation(18)": (2, (18,), lambda n: np.tanh(n / 2),
                        lambda v: 2 * stats.t.sf(np.abs(t_of_r(v, 18)), 18)),
    "p": (22, (), lambda n: stats.norm.sf(n * 2), lambda v: v),
    "ln p": (23, (), lambda n: np.log(stats.norm.sf(n * 2)), lambda v: np.exp(-np.abs(v))),
    "log10 p": (24, (), lambda n: -np.log10(stats.norm.sf(n * 2)), lambda v: 10.0 ** -np.abs(v)),
}  # fmt: skip


@pytest.mark.parametrize("version", [1, 2])
@pytest.mark.parametrize("kind", KINDS)
def test_an_intent_is_read_and_tests_without_more(tmp_path, rng, kind, version):
    code, parameters, make, p_of = KINDS[kind]
    values = make(rng.normal(size=(9, 10, 11))).astype("f4")
    path = nifti(tmp_path / "map.nii", values, code, parameters, version=version, name=b"effect")
    volume = sp.open(path)
    assert (volume.frames[0].statistic, volume.frames[0].name) == (kind, "effect")
    p = p_of(values.astype(float))
    kept = volume.masked(sp.Threshold(p=0.01)).voxels()
    np.testing.assert_array_equal(~np.ma.getmaskarray(kept), p <= 0.01)
    ordered = np.sort(p.ravel())
    passing = np.flatnonzero(ordered <= 0.2 * np.arange(1, p.size + 1) / p.size)
    cut = ordered[passing[-1]] if passing.size else -1
    rate = volume.masked(sp.Threshold(fdr=0.2)).voxels()
    np.testing.assert_array_equal(~np.ma.getmaskarray(rate), p <= cut)
    again = tmp_path / "again.nii"
    volume.save(again, version=version)
    assert sp.open(again).frames[0].statistic == kind
    told = json.loads(run("describe", path, "--json"))["results"][0]
    assert told["frames"][0]["statistic"] == kind
    assert told["statistic"] in run("describe", path)


def test_a_map_whose_file_says_its_statistic_needs_p_alone(tmp_path, rng):
    anatomy = tmp_path / "anatomy.nii"
    sp.volume_from_array(rng.normal(size=(9, 10, 11)).astype("f4"), affine=AFFINE).save(anatomy)
    path = nifti(tmp_path / "map.nii", rng.normal(size=(9, 10, 11)) * 2, 3, (12,), name=b"walk")
    out = tmp_path / "out.png"
    told = json.loads(run("slices", anatomy, "-o", out, "--map", path, "--p", "0.01", "--json"))
    count = sum(group["voxels"] for group in told["results"][0]["groups"])
    level = stats.t.isf(0.005, 12)
    assert count == (np.abs(sp.open(path).voxels()) >= level).sum() > 10
    told = sp.open(out).metadata["Description"]
    assert f"|walk| >= {level:.3g} (p < 0.01, uncorrected)" in told


FRAMES = [  # frames: (name, statistic); shown; what is tested, or the error
    ([("effect", None)], 0, "effect"), ([("a", None), ("t", None)], 0, "t"),
    ([("a", None), ("b", "z")], 0, "b"), ([("a", "z"), ("b", "z")], 1, "b"),
    ([("a", "z"), ("b", "z"), ("c", None)], 2, "which frame"),
    ([("a", None), ("b", None)], 0, "which frame"),
]  # fmt: skip


@pytest.mark.parametrize(("frames", "shown", "expected"), FRAMES)
def test_which_frame_is_the_statistic_is_known_or_asked(frames, shown, expected):
    named = [sp.Frame(name, statistic=statistic) for name, statistic in frames]
    volume = sp.volume_from_array(np.zeros((len(named), 2, 2, 2)), affine=AFFINE, frames=named)
    test = sp.Threshold(p=0.1, dof=3 if all(one is None for _, one in frames) else None)
    bands = volume._source.bands
    if expected == "which frame":
        with pytest.raises(sp.LookError, match="the frames are a, b"):
            test.settled(bands, shown)
    else:
        assert test.settled(bands, shown).measure == expected


def test_what_is_not_known_or_contradicts_is_told(tmp_path, rng):
    path = nifti(tmp_path / "t.nii", rng.normal(size=(4, 4, 4)), 3)  # t, of no degrees of freedom
    assert sp.open(path).frames[0].statistic == "t"
    with pytest.raises(sp.LookError, match="t needs 1 degrees of freedom above 0, not none"):
        sp.open(path).masked(sp.Threshold(p=0.1)).voxels()
    assert sp.open(path).masked(sp.Threshold(p=0.5, dof=9)).voxels().count()
    zeros = np.where(rng.random((6, 6, 6)) < 0.5, 0, 0.5)
    held = sp.volume_from_array(zeros, affine=AFFINE, frames=[sp.Frame("p", statistic="p")])
    with pytest.warns(sp.DataWarning, match="p values are 0 exactly"):
        held.masked(sp.Threshold(p=0.01)).voxels()
    for wrong in ("r(3)", "t(1,2)", "F(2)", "t(-1)", "z(a)"):
        with pytest.raises(sp.MetadataError, match="expected t"):
            sp.Frame("a", statistic=wrong) and sp.volume_from_array(
                zeros, affine=AFFINE, frames=[sp.Frame("a", statistic=wrong)])  # fmt: skip


@pytest.mark.parametrize("version", [1, 2])
def test_space_repetition_and_slice_timing_are_told_and_long_series_summarised(tmp_path, version):
    at = {1: [("B", 122, 3), ("h", 74, 0), ("h", 120, 3), ("f", 132, 500.0), ("f", 92, 2000.0),
              ("B", 123, 2 | 16), ("h", 254, 4)],
          2: [("i", 496, 3), ("q", 224, 0), ("q", 232, 3), ("d", 208, 500.0), ("d", 136, 2000.0),
              ("i", 500, 2 | 16), ("i", 348, 4)]}[version]  # fmt: skip
    path = nifti(tmp_path / "walk.nii", np.zeros((40, 3, 3, 4)), 0, version=version,
                 more=[("<" + form, place, value) for form, place, value in at])  # fmt: skip
    said = run("describe", path)
    for words in ("sform, which leads to: MNI 152", "every 2 s; planes 0 to 3 every second one "
                  "upward, 0.5 s each", "40 frames, of which these are the first and the last, "
                  "every 2 s"):  # fmt: skip
        assert words in said
    assert [line.split()[0] for line in said.splitlines()[-3:-1]] == ["1", "40"]
    assert len(json.loads(run("describe", path, "--json"))["results"][0]["frames"]) == 40
