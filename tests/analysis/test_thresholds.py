"""Thresholds and groups: against SciPy's distributions, and by hand."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats

import spectrane as sp
from spectrane.analysis.clusters import OfSize, find_clusters, labelled
from spectrane.analysis.thresholds import Threshold, Thresholded
from spectrane.model.source import source_of

AFFINE = np.diag([2.0, 2.0, 3.0, 1.0])


@pytest.fixture
def study(rng):
    t = rng.normal(0, 1, (10, 11, 12)).astype("f4")
    t[2:5, 2:5, 2:4] = 9.0
    t[7:9, 8, 9] = -8.0
    t[0, 0, 0] = np.nan
    frames = np.stack([t * 10, t])
    return sp.volume_from_array(frames, affine=AFFINE, frames=["change", "t"])


@pytest.mark.parametrize(
    ("given", "level"),
    [
        ({"at": 5.0}, 5.0),
        ({"p": 0.001, "dof": 20}, stats.t.isf(0.0005, 20)),
        ({"p": 0.001, "dof": 20, "side": "positive"}, stats.t.isf(0.001, 20)),
        ({"p": 0.01, "statistic": "z"}, stats.norm.isf(0.005)),
        ({"p": 0.01, "statistic": "F", "dof": (2, 30)}, stats.f.isf(0.01, 2, 30)),
    ],
)
def test_levels_are_those_of_the_distributions(study, given, level):
    test = Threshold("t", **given)
    assert test.level() == pytest.approx(level)
    t = study.voxels("t").filled(np.nan).astype("f8")
    with np.errstate(invalid="ignore"):
        both = np.abs(t) >= level if test.side == "both" and test.statistic != "F" else t >= level
    kept = study.slice("axial", at=6.0)  # the volume itself is not changed by a test
    np.testing.assert_array_equal(
        Thresholded(source_of(study), test).passed(((0, 10), (0, 11), (0, 12))), both
    )
    assert kept.shape[0] == 2


def test_false_discovery_rate_is_that_of_benjamini_and_hochberg(study):
    test = Threshold("t", fdr=0.05, dof=30)
    values = study.voxels("t").compressed().astype("f8")
    p = np.sort(2 * stats.t.sf(np.abs(values), 30))
    passing = p <= 0.05 * np.arange(1, len(p) + 1) / len(p)
    wanted = stats.t.isf(p[np.flatnonzero(passing)[-1]] / 2, 30)
    kept = Thresholded(source_of(study), test)
    assert kept.level() == pytest.approx(wanted)
    assert kept.passed(((0, 10), (0, 11), (0, 12))).sum() == passing.sum()
    loud = Threshold(1, fdr=0.05, statistic="z")
    values = np.array([0.1, -70.0, 60.0, 0.2, 80.0])  # p below the least float64
    assert loud.passed(values, loud.level(values)).tolist() == [False, True, True, False, True]
    quiet = sp.volume_from_array(np.zeros((4, 4, 4), "f4"), affine=AFFINE)
    assert Thresholded(source_of(quiet), Threshold(1, fdr=0.05, dof=30)).level() == np.inf


def test_expressions_test_the_same_and_invalid_hides(study):
    by_text = Thresholded(source_of(study), "abs(t) >= 5")
    pixels = by_text.read([0], ((0, 10), (0, 11), (0, 12)))
    assert pixels.valid.sum() == 18 + 2
    assert not pixels.valid[0, 0, 0, 0]
    np.testing.assert_allclose(pixels.values[0][pixels.valid[0]][:3], 90)


def test_groups_are_told_by_size_peak_and_place(study):
    kept = Thresholded(source_of(study), Threshold("t", at=5.0))
    first, second = find_clusters(kept, 0)
    assert (first.voxels, first.volume, first.peak) == (18, 18 * 12.0, pytest.approx(90))
    assert (first.center_x, first.center_y, first.center_z) == pytest.approx((6, 6, 7.5))
    assert (second.voxels, second.peak) == (2, pytest.approx(-80))
    assert second.peak_y == 16
    assert [one.voxels for one in find_clusters(kept, 0, least=3)] == [18]
    assert [one.voxels for one in find_clusters(kept, 0, least=100, in_mm3=True)] == [18]
    large = OfSize(kept, least=3)
    assert large.read([1], ((0, 10), (0, 11), (0, 12))).valid.sum() == 18
    corner = np.zeros((3, 3, 3), bool)
    corner[0, 0, 0] = corner[1, 1, 1] = corner[2, 2, 1] = True
    assert [labelled(corner, n)[1] for n in (6, 18, 26)] == [3, 2, 1]
    with pytest.raises(sp.LookError, match="expected 6, 18, 26"):
        labelled(corner, 8)


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({}, "one of at, p and fdr"),
        ({"at": 1, "p": 0.1, "dof": 3}, "one of at, p and fdr"),
        ({"p": 2, "dof": 3}, "between 0 and 1"),
        ({"p": 0.1, "dof": (1, 2)}, "t needs 1 degrees of freedom"),
        ({"p": 0.1, "statistic": "F", "dof": 3}, "F needs 2"),
        ({"at": 1, "side": "up"}, "expected both"),
        ({"at": 1, "statistic": "r"}, "expected t, F, z"),
        ({"at": float("inf")}, "finite"),
    ],
)
def test_thresholds_that_make_no_sense_are_refused(given, message):
    with pytest.raises(sp.LookError, match=message):
        Threshold("t", **given)


RATES = [  # p of each value, in no order; the rate; how many pass
    ([0.03, 0.045, 0.5, 0.9], 0.1, 2),  # the first lies above its own line, the second below
    ([0.9, 0.024, 0.5, 0.6], 0.1, 1), ([0.026, 0.9, 0.5, 0.6], 0.1, 0),
    ([0.03, 0.045, np.nan, np.nan], 0.1, 2), ([0.06, 0.07, 0.08, 0.09], 0.1, 4),
]  # fmt: skip


@pytest.mark.parametrize(("p", "rate", "passing"), RATES)
def test_the_line_of_the_false_discovery_rate_runs_over_all_valid_values(p, rate, passing):
    """The greatest p at or below rate times its rank among them, whatever those before it do."""
    values = stats.norm.isf(np.array(p))
    test = sp.Threshold("z", fdr=rate, side="positive", statistic="z")
    kept = values >= test.level(values) - 1e-9
    assert kept.sum() == passing
