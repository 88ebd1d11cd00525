"""Mosaics: every rule against NumPy, balances against known gains, seams along what agrees."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from scipy import ndimage
from tests.conftest import values_of

from spectrane.engine.memory import ArraySource
from spectrane.model.band import Band
from spectrane.model.errors import BandError, DataWarning, GridMismatch, LookError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.window import whole
from spectrane.spatial.mosaics import weights
from spectrane.spatial.mosaics.balancing import balanced, overlap_rows, overlaps_of
from spectrane.spatial.mosaics.composing import CompositionRule
from spectrane.spatial.mosaics.inputs import ordered
from spectrane.spatial.mosaics.joining import Mosaic
from spectrane.spatial.mosaics.seams import Seam

BASE = Grid.from_corner((60, 100), x=1000, y=2000, pixel_size=10, crs="EPSG:32727")


def scene(rng):
    field = ndimage.gaussian_filter(rng.normal(size=(60, 100)), 4)
    return 1000 + 3000 * (field - field.min()) / np.ptp(field)


def part(values, rows, columns, *, nodata=0, dtype="u2", **kept):
    cut = values[rows[0] : rows[1], columns[0] : columns[1]]
    return ArraySource(
        np.atleast_3d(cut.T).T.astype(dtype),
        grid=BASE.cropped((rows, columns)),
        bands=[Band("grey", nodata=nodata, **kept)],
    )


def everything(source):
    return source.read(range(len(source.bands)), whole(source.shape))


@pytest.fixture
def three(rng):
    """Three rasters that overlap, with holes, and the canvas of each: (values, valid)."""
    made, canvases = [], []
    for rows, columns in (((0, 50), (0, 60)), ((10, 60), (40, 100)), ((5, 45), (30, 70))):
        values = rng.integers(1, 5000, (60, 100))
        values[rng.random(values.shape) < 0.1] = 0
        made.append(part(values, rows, columns))
        canvas = np.zeros((60, 100))
        canvas[rows[0] : rows[1], columns[0] : columns[1]] = values[
            rows[0] : rows[1], columns[0] : columns[1]
        ]
        canvases.append(canvas)
    return made, np.array(canvases)


@pytest.mark.parametrize("rule", ["top", "bottom", "least", "greatest", "average"])
def test_rules_are_what_they_say(three, rule):
    made, canvases = three
    found = everything(Mosaic(made, CompositionRule(rule)))
    masked = np.ma.masked_equal(canvases, 0)
    if rule in ("top", "bottom"):
        wanted = np.zeros((60, 100))
        for canvas in canvases if rule == "top" else canvases[::-1]:
            wanted = np.where(canvas > 0, canvas, wanted)
    else:
        wanted = {"least": masked.min, "greatest": masked.max, "average": masked.mean}[rule](axis=0)
        wanted = np.floor(np.ma.filled(wanted, 0) + 0.5)
    np.testing.assert_array_equal(found.valid[0], (canvases > 0).any(axis=0))
    np.testing.assert_allclose(found.values[0][found.valid[0]], wanted[found.valid[0]], atol=1)
    mosaic = pickle.loads(pickle.dumps(Mosaic(made, CompositionRule(rule))))
    piece = mosaic.read([0], ((12, 40), (33, 71)))
    np.testing.assert_array_equal(piece.values[0], found.values[0, 12:40, 33:71])


def distance(valid):
    """Euclid's to the nearest invalid pixel, or to the outer edge."""
    rows, columns = valid.shape
    edge = np.minimum(
        np.minimum.outer(np.arange(rows) + 0.5, np.arange(columns) + 0.5),
        np.minimum.outer(rows - np.arange(rows) - 0.5, columns - np.arange(columns) - 0.5),
    )
    return edge if valid.all() else np.minimum(edge, ndimage.distance_transform_edt(valid))


@pytest.mark.parametrize("width", [6, 25.5])
def test_feathering_weighs_by_distance_to_the_valid_edge(three, width):
    made, canvases = three
    found = everything(Mosaic(made, CompositionRule("feather", width)))
    sums = np.zeros((2, 60, 100))
    for source, canvas in zip(made, canvases):
        row, column = (
            round((2000 - source.grid.bounds[3]) / 10),
            round((source.grid.bounds[0] - 1000) / 10),
        )
        valid = values_of(source)[0] > 0
        weight = np.zeros((60, 100))
        weight[row : row + valid.shape[0], column : column + valid.shape[1]] = np.where(
            valid, np.minimum(1, distance(valid) / width), 0
        )
        sums += weight * canvas, weight
    valid = sums[1] > 0
    np.testing.assert_array_equal(found.valid[0], valid)
    np.testing.assert_allclose(found.values[0][valid], sums[0][valid] / sums[1][valid], atol=0.51)
    piece = Mosaic(made, CompositionRule("feather", width)).read([0], ((17, 30), (29, 64)))
    np.testing.assert_array_equal(piece.values[0], found.values[0, 17:30, 29:64])


def test_an_edge_that_a_tile_continues_is_no_edge():
    windows = [((0, 20), (0, 20)), ((0, 20), (20, 40)), ((20, 40), (0, 20))]
    beside = weights.continued(windows, 0)
    assert beside == windows[1:]
    seen = weights.feather_weights(
        np.ones((20, 20), bool), windows[0], windows[0], windows[0], beside, 5
    )
    assert seen[10, 19] == 1
    assert seen[19, 5] == 1
    assert seen[0, 10] == pytest.approx(0.1)
    assert seen[10, 0] == pytest.approx(0.1)


@pytest.mark.parametrize("kind", ["gain", "gain+bias"])
def test_known_gains_and_biases_are_found(rng, kind):
    truth = scene(rng)
    changes = [(1.0, 0.0), (0.8, 120.0 if kind == "gain+bias" else 0.0), (1.25, 0.0)]
    windows = (((0, 60), (0, 45)), ((0, 60), (30, 75)), ((0, 60), (60, 100)))
    made = [
        part(truth * gain + bias, *window, dtype="f8", nodata=None)
        for (gain, bias), window in zip(changes, windows)
    ]
    apart = part(truth, (0, 5), (0, 5))
    far = ArraySource(
        values_of(apart).astype("f8"),
        bands=[Band("grey")],
        grid=Grid.from_corner((5, 5), x=1000, y=2500, pixel_size=10, crs="EPSG:32727"),
    )
    mosaic = Mosaic([*made, far], CompositionRule("average", balance=kind))
    with pytest.warns(DataWarning, match="overlap no other raster"):
        found = everything(mosaic)
    balance = mosaic.composition.resolved.balance
    gains = np.array([one.gain[0] for one in balance.corrections])
    assert gains[:3].mean() == pytest.approx(1)
    assert balance.corrections[3].gain == (1.0,)
    assert sum(one.bias[0] for one in balance.corrections) == pytest.approx(0, abs=1e-6)
    level = np.array([g for g, _ in changes]) * gains[:3]
    np.testing.assert_allclose(level, level[0], rtol=1e-6)
    inner = found.values[0, -60:, :]
    slope = np.polyfit(truth.ravel(), inner.ravel(), 1)
    np.testing.assert_allclose(inner, np.polyval(slope, truth), atol=1e-3)
    rows = overlap_rows(
        mosaic.laid,
        mosaic,
        balance.overlaps,
        balance.corrections,
    )
    assert [(r["first"], r["pixels"]) for r in rows] == [("an array in memory", 900)] * 2
    assert abs(rows[0]["before"]) > 100
    assert all(abs(r["after"]) < 1e-6 for r in rows)


def test_histograms_are_matched_from_the_reference_outward(rng):
    truth = scene(rng)
    bent = 50 * np.sqrt(truth)
    made = [
        part(truth, (0, 60), (0, 45), dtype="f8", nodata=None),
        part(bent, (0, 60), (25, 75), dtype="f8", nodata=None),
        part(bent * 0.5, (0, 60), (55, 100), dtype="f8", nodata=None),
    ]
    found = everything(Mosaic(made, CompositionRule("top", balance="histogram"))).values[0]
    np.testing.assert_allclose(found[:, 25:45], truth[:, 25:45], rtol=0.02)
    assert np.abs(found[:, 45:75] - truth[:, 45:75]).mean() < 150
    other = everything(
        Mosaic(made, CompositionRule("top", balance="histogram", reference=1))
    ).values[0]
    np.testing.assert_allclose(other[:, 45:55], bent[:, 45:55])


def test_the_seam_runs_where_the_rasters_agree(rng):
    below, above = np.full((60, 100), 1000.0), np.full((60, 100), 1400.0)
    valley = np.abs(np.arange(100)[None] - (50 + 6 * np.sin(np.arange(60)[:, None] / 9))) < 1.5
    above[valley] = 1000.0
    made = [part(below, (0, 60), (0, 70)), part(above, (0, 60), (30, 100))]
    mosaic = Mosaic(made, CompositionRule("seam", 1))
    found = everything(mosaic).values[0].astype(int)
    steps = np.abs(np.diff(found, axis=1))
    assert (steps > 0).sum(axis=1).max() <= 3
    assert (found[:, :40] == 1000).all()
    assert (found[:, 60:] == 1400).all()
    for row in range(4, 56):
        crossing = np.flatnonzero(found[row] > 1200)[0]
        assert abs(crossing - (50 + 6 * np.sin(row / 9))) < 4
    wide = Mosaic(made, CompositionRule("seam", 12))
    assert np.diff(wide.composition.resolved.seams[1].weights, axis=1).max() < 1 / 11


def test_a_seam_in_a_corner_and_an_island(rng):
    truth = scene(rng)
    made = [
        part(truth, (0, 45), (0, 70)),
        part(truth + 7, (20, 60), (40, 100)),
        part(truth + 20, (5, 15), (5, 15)),
    ]
    found = everything(Mosaic(made, CompositionRule("seam", 4)))
    covered = np.zeros((60, 100), bool)
    covered[:45, :70] = covered[20:, 40:] = True
    np.testing.assert_array_equal(found.valid[0], covered)
    assert np.abs(found.values[0] - truth)[covered].max() <= 21
    assert np.abs(found.values[0][7:13, 7:13] - truth[7:13, 7:13] - 20).max() <= 1
    seam = Seam(((0, 8), (0, 8)), 4, np.array([[0, 1], [0, 1]], "f4"))
    np.testing.assert_allclose(
        seam.at(((0, 1), (0, 8)))[0], [0, 0, 0.125, 0.375, 0.625, 0.875, 1, 1]
    )
    np.testing.assert_allclose(seam.at(((2, 5), (3, 6)))[0], [0.375, 0.625, 0.875])


def test_inputs_differ_in_grid_type_bands_scale_and_nodata(rng, utm):
    first = ArraySource(
        rng.integers(1, 200, (2, 70, 90)).astype("u1"),
        grid=utm,
        bands=[Band("r", "red", nodata=0), Band("n", "nir", nodata=0)],
    )
    values = rng.integers(0, 9000, (3, 70, 90)).astype("u2")
    second = ArraySource(
        values,
        grid=utm.cropped(((0, 70), (50, 140))),
        bands=[Band("B8", "nir", scale=0.01), Band("x", "blue"), Band("B4", "red", scale=0.01)],
    )
    mosaic = Mosaic([first, second], CompositionRule("top"))
    assert mosaic.dtype == np.uint16
    assert mosaic.shape == (70, 140)
    found = everything(mosaic)
    stored = np.floor(values[[2, 0]][:, :, 40:] * 0.01 + 0.5)
    np.testing.assert_allclose(found.values[:, :, 90:], stored, atol=0)
    np.testing.assert_array_equal(found.values[:, :, :50], values_of(first)[:, :, :50])
    assert found.valid.all()
    assert mosaic.bands[0].nodata is None  # the second one's 0 is a number
    third = ArraySource(values[:2].astype("f4"), grid=utm, bands=[Band("a", "green"), Band("b")])
    with pytest.raises(BandError, match=r"has no band like r \(red\)"):
        Mosaic([first, third])
    kelvin, metres = (
        ArraySource(values[:1], grid=utm, bands=[Band("t", unit=u)]) for u in ("K", "m")
    )
    with pytest.raises(MetadataError, match="is in m, the first raster's in K"):
        Mosaic([kelvin, metres])
    celsius = ArraySource(values[:1], grid=utm, bands=[Band("t", unit="degC", scale=0.1)])
    mixed = everything(Mosaic([kelvin, celsius], CompositionRule("top"))).values[0, 3, 4]
    assert mixed == np.floor(values[0, 3, 4] * 0.1 + 273.15 + 0.5)


def test_black_is_nodata_only_where_all_bands_are(rng):
    values = rng.integers(0, 3, (3, 60, 100)).astype("u1")
    source = ArraySource(values, grid=BASE, bands=[Band(n, nodata=0) for n in "rgb"])
    source.nodata_when = "all"
    found = everything(Mosaic([source]))
    np.testing.assert_array_equal(found.valid[0], values.any(axis=0))
    np.testing.assert_array_equal(found.values, values)


def test_other_zones_are_regridded_and_large_mosaics_shown_small(rng):
    smooth = np.add.outer(np.arange(60) * 20.0, np.arange(100) * 10.0) + 100
    here = part(smooth, (0, 60), (0, 60), dtype="f4", nodata=None)
    from spectrane.spatial.regridded import regrid

    other = regrid(part(smooth, (0, 60), (40, 100), dtype="f4", nodata=None), crs="EPSG:32728")
    found = everything(Mosaic([here, other], CompositionRule("average"), grid=BASE))
    inner = (slice(4, -4), slice(4, -4))
    np.testing.assert_allclose(found.values[0][inner], smooth[inner], atol=3)
    fine = BASE.resized((1800, 3000))
    sloped = np.add.outer(np.arange(1800) / 1.5, np.arange(3000) / 3).astype("f4")[None]
    smooth = np.add.outer(np.arange(60) * 20.0 + 9.7, np.arange(100) * 10.0 + 4.8)
    big = [
        ArraySource(sloped[:, :, a:b], grid=fine.cropped(((0, 1800), (a, b))))
        for a, b in ((0, 1800), (1200, 3000))
    ]
    for rule in (CompositionRule("feather", 60), CompositionRule("seam", 60)):
        mosaic = Mosaic(big, rule, grid=fine)
        small = mosaic.read([0], whole(mosaic.shape), (60, 100), "area")
        np.testing.assert_allclose(small.values[0], smooth, atol=0.5)
        assert small.valid.all()


def test_orders(rng):
    def dated(**metadata):
        source = part(np.ones((60, 100)), (0, 9), (0, 9))
        source.metadata = metadata
        return source

    scenes = [
        dated(tags={"DateTime": "2026:05:02 10:00:00"}),
        dated(datetime="2026-05-01T10:00:00Z"),
        dated(properties={"datetime": "2026-05-03"}),
    ]
    assert ordered(scenes, "date") == [1, 0, 2]
    assert ordered(scenes, None) == [0, 1, 2]
    assert ordered(scenes, "cloud", {"cloud": [10, 90, 40]}) == [1, 2, 0]
    near = [part(np.ones((60, 100)), (0, 9), (k, k + 9)) for k in (50, 0, 20)]
    assert ordered(near, "distance:1000,2000") == [0, 2, 1]
    with pytest.raises(MetadataError, match="says no cloud cover"):
        ordered(scenes, "cloud")
    for wrong in ("size", "distance:1"):
        with pytest.raises(LookError, match="expected"):
            ordered(scenes, wrong)


@pytest.mark.parametrize(
    ("given", "message"),
    [
        ({"name": "best"}, "expected top, bottom"),
        ({"name": "top", "width": 3}, "width means nothing"),
        ({"name": "feather", "width": -1}, "above 0"),
        ({"balance": "colour"}, "expected gain"),
    ],
)
def test_rules_that_make_no_sense_are_refused(given, message):
    with pytest.raises(LookError, match=message):
        CompositionRule(**given)


def test_rasters_that_cannot_be_joined_are_refused(rng, utm):
    here = part(scene(rng), (0, 60), (0, 60))
    with pytest.raises(GridMismatch, match="has no place on a map"):
        Mosaic([here, ArraySource(values_of(here))])
    with pytest.raises(GridMismatch, match="there are no rasters"):
        Mosaic([])
    with (
        pytest.warns(DataWarning, match="left out"),
        pytest.raises(GridMismatch, match="no raster"),
    ):
        Mosaic([here], grid=utm)
    assert overlaps_of(Mosaic([here]).laid, 1) == []
    assert balanced(Mosaic([here]).laid, 1, "gain").corrections[0].gain == (1.0,)


@pytest.mark.parametrize(("rule", "best"), [("least", np.min), ("greatest", np.max)])
@pytest.mark.parametrize("scale", [-0.5, 2.0])
def test_least_and_greatest_are_of_physical_values(rng, rule, best, scale):
    stored = rng.integers(1, 99, (2, 60, 100))
    made = [part(one, (0, 60), (0, 100), scale=scale, offset=7) for one in stored]
    found = everything(Mosaic(made, CompositionRule(rule))).values[0] * scale + 7
    np.testing.assert_array_equal(found, best(stored * scale + 7, axis=0))
