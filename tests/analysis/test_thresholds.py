"""Thresholds and groups: against SciPy's distributions, and by hand."""

from __future__ import annotations

import numpy as np
import pytest
from scipy import stats
from scipy.ndimage import gaussian_filter, generate_binary_structure, label, maximum_filter

import spectrane as sp
from spectrane.analysis.clusters import OfSize, find_clusters
from spectrane.analysis.grouping import Grouping
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


def grouped(kept, neighbours, slab):
    """Return the voxels of each group, as sets of places (i, j, k)."""
    grouping = Grouping(kept.shape, neighbours, slab=slab)
    places, labels = [], []
    for part in grouping.slabs(lambda window: kept[:, :, slice(*window[2])]):
        at = np.argwhere(part.labels)
        places += [(i, j, k + part.window[2][0]) for k, j, i in at.tolist()]
        labels += part.labels[part.labels > 0].tolist()
    groups = grouping.joined()[np.array(labels, int) - 1] if labels else np.empty(0, int)
    assert grouping.count == len(set(groups.tolist()))
    return {frozenset(places[n] for n in np.flatnonzero(groups == g)) for g in set(groups.tolist())}


@pytest.mark.parametrize("neighbours", [6, 18, 26])
@pytest.mark.parametrize("share", [0.0, 0.08, 0.2, 0.45])
def test_groups_are_joined_across_slabs(rng, neighbours, share):
    kept = rng.random((6, 7, 9)) < share
    labels, count = label(kept, generate_binary_structure(3, {6: 1, 18: 2, 26: 3}[neighbours]))
    expected = {frozenset(map(tuple, np.argwhere(labels == n + 1).tolist())) for n in range(count)}
    for slab in (1, 6 * 7 * 2, 10**6):
        assert grouped(kept, neighbours, slab) == expected
    with pytest.raises(sp.LookError, match="expected 6, 18, 26"):
        Grouping(kept.shape, 8)


@pytest.mark.parametrize("slab", [1, 200, 10**6])
@pytest.mark.parametrize("apart", [2.1, 5.0, 9.0])
def test_peaks_of_groups_are_those_found_by_hand(rng, monkeypatch, slab, apart):
    """Summits of 26 neighbours, the strongest first, each so far from all that were taken."""
    monkeypatch.setattr("spectrane.analysis.clusters.SLAB", slab)
    t = gaussian_filter(rng.normal(size=(12, 11, 13)), 0.8) * 9
    held = sp.volume_from_array(t, affine=AFFINE)
    table = sp.peaks(sp.VolumeLayer(held, threshold="abs(band(1)) >= 2"), apart=apart)
    kept = np.abs(t) >= 2
    labels, count = label(kept, np.ones((3, 3, 3)))
    strength = np.where(kept, np.abs(t), -1)
    summits = kept & (maximum_filter(strength, 3, mode="constant", cval=-1) == strength)
    expected = []
    for group in range(1, count + 1):
        chosen = []
        own = np.argwhere(summits & (labels == group))
        for at in own[np.argsort(-strength[tuple(own.T)])]:
            place = at * (2.0, 2.0, 3.0)
            if all(np.linalg.norm(place - other) >= apart for other in chosen):
                chosen.append(place)
                expected.append((int((labels == group).sum()), *place, t[tuple(at)]))
    found = table[["voxels", "x", "y", "z", "peak"]].to_numpy()
    np.testing.assert_allclose(sorted(map(tuple, found)), sorted(expected))
    assert len(found) >= count > 3
    first = table[table["rank"] == 1]
    assert first["peak"].abs().tolist() == table.groupby("number")["peak"].agg(
        lambda one: one.abs().max()).tolist()  # fmt: skip


def test_peaks_tell_the_label_under_them_and_the_tested_statistic(study):
    parts = np.zeros((10, 11, 12), np.uint8)
    parts[:6] = 4
    labels = sp.volume_from_array(parts, affine=AFFINE).as_labels({4: "cannon bone"})
    layer = sp.VolumeLayer(study, threshold="abs(t) >= 5", frame="change")
    table = sp.clusters(layer, labels=labels)
    assert table["label"].tolist() == ["cannon bone", ""]
    np.testing.assert_allclose(table["statistic"], table["peak"] / 10, rtol=1e-6)
    both = sp.VolumeLayer(study, threshold="abs(t) + abs(change) >= 50", frame="change")
    assert sp.clusters(both)["statistic"].isna().all()


@pytest.mark.parametrize(
    ("threshold", "passing"),
    [("abs(t) >= 5", lambda t, at: np.abs(t) >= at), ("t > 5", lambda t, at: t >= at),
     ("t < -5", lambda t, at: t <= at),
     (Threshold("t", p=1e-4, dof=30), lambda t, at: abs(t) >= at),
     (Threshold("t", p=0.05, dof=3, statistic="chi2", side="negative"), lambda t, at: t >= at)],
)  # fmt: skip
def test_survivors_are_those_of_each_threshold(study, threshold, passing):
    layer = sp.VolumeLayer(study, threshold=threshold, frame="change", least=2)
    table = sp.survivors(layer)
    t = study.voxels("t").filled(np.nan).astype("f8")
    for row in table.itertuples():
        with np.errstate(invalid="ignore"):
            labels, _ = label(passing(t, row.threshold), np.ones((3, 3, 3)))
        sizes = np.bincount(labels.ravel(), minlength=1)[1:]
        assert (row.voxels, row.groups) == (sizes[sizes >= 2].sum(), (sizes >= 2).sum())
    chosen = table[table["chosen"]]
    assert chosen["voxels"].tolist() == [sp.clusters(layer)["voxels"].sum()]
    with pytest.raises(sp.LookError, match="no single level"):
        sp.survivors(sp.VolumeLayer(study, threshold="t * 2 > 5"))


@pytest.mark.parametrize("at", [0.1, 0.7, -0.7, 3.1, 1e-40])
@pytest.mark.parametrize("side", ["both", "positive", "negative"])
def test_float32_values_are_held_against_the_level_itself(at, side):
    """0.7 as float32 is less than 0.7: it fails, whatever type compares."""
    near = np.float32(at)
    values = np.array([near, np.nextafter(near, np.float32(9)), np.nextafter(near, -np.float32(9))])
    test = Threshold("t", at=at, side=side)
    for one in (values, -values):
        assert test.passed(one, at).tolist() == test.passed(one.astype("f8"), at).tolist()


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
