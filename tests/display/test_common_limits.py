"""Limits of several rasters together, against NumPy over all their valid values."""

from __future__ import annotations

import json

import numpy as np
import pytest

import spectrane as sp
from spectrane.display import common_limits
from spectrane.display.common_limits import one_rule

RANDOM = np.random.default_rng(15)


def scene(dtype, top, *, shape=(3, 40, 50), scale=1.0, offset=0.0, grid=None):
    values = RANDOM.normal(top / 2, top / 6, shape)
    values = values.clip(0, top).astype(dtype)
    values[:, :3] = 0  # fill
    bands = [sp.Band(name, role=name, nodata=0, scale=scale, offset=offset)
             for name in ("red", "green", "blue")][: shape[0]]  # fmt: skip
    return sp.from_array(values, bands=bands, grid=grid)


def physical(rasters, band):
    return np.concatenate(
        [r.pixels([band], physical=True).compressed().astype(float) for r in rasters]
    )


MIXES = {
    "uint16": [scene("u2", 3000), scene("u2", 9000)],
    "other sizes": [scene("u2", 3000), scene("u2", 9000, shape=(3, 7, 90))],
    "float": [scene("f4", 3.0), scene("f4", 9.0), scene("f4", 1.0)],
    "scaled": [scene("i2", 3000, scale=0.001, offset=-1), scene("i2", 3000, scale=0.002)],
    "types": [scene("u1", 200), scene("f8", 300.0), scene("i2", 900)],
}
RULES = {
    "percentile:2,98": lambda v: np.percentile(v, (2, 98)),
    "minmax": lambda v: (v.min(), v.max()),
    "deviation:2": lambda v: (v.mean() - 2 * v.std(), v.mean() + 2 * v.std()),
    "symmetric:90": lambda v: np.percentile(np.abs(v), 90) * np.array([-1, 1]),
    "auto": lambda v: np.percentile(v, (1, 99)),
}


@pytest.mark.filterwarnings("ignore:.* cut off")
@pytest.mark.parametrize("mix", MIXES)
@pytest.mark.parametrize("rule", RULES)
@pytest.mark.parametrize("shared", [False, True])
def test_limits_of_all_together(mix, rule, shared):
    rasters = MIXES[mix]
    look = sp.limits_like(rasters, sp.Look(channels="natural", limits=rule, shared=shared))
    scales = sp.render(rasters[-1], look).scales
    bands = [np.concatenate([physical(rasters, b) for b in (1, 2, 3)])] * 3 if shared else [
        physical(rasters, b) for b in (1, 2, 3)]  # fmt: skip
    for one, values in zip(scales, bands, strict=True):
        assert (one.low, one.high) == pytest.approx(tuple(RULES[rule](values)), rel=1e-6)
        assert one.exact
    said = "percentile:1,99" if rule == "auto" else rule
    assert scales[0].limits == f"{said} of {len(rasters)} rasters"
    kept = sp.Look.from_dict(look.to_dict())  # in a file they are numbers
    assert sp.render(rasters[0], kept).scales[0].low == scales[0].low


def test_samples_are_in_proportion_and_say_so(monkeypatch):
    monkeypatch.setattr(common_limits, "MOST_EXACT", 1000)
    monkeypatch.setattr(common_limits, "ENOUGH", 20_000)
    low, high = (sp.from_array(np.full((rows, 500), top, "u2") + RANDOM.integers(
        0, 10, (rows, 500), "u2")) for rows, top in ((900, 100), (100, 7000)))  # fmt: skip
    look = sp.limits_like([low, high], sp.Look(limits="percentile:1,80"))
    scale = sp.render(low, look).scales[0]
    assert not scale.exact
    assert 95 < scale.high < 120  # nine in ten pixels are the first one's
    exact = sp.limits_like([low, high], sp.Look(limits="percentile:1,80", exact=True))
    assert sp.render(low, exact).scales[0].exact


def test_what_limits_shall_not_see(tmp_path, utm):
    grid = utm.cropped(((0, 40), (0, 50)))
    values = RANDOM.integers(100, 200, (40, 50)).astype("u2")
    values[10:20, 5:30] = 9000
    cloud = np.zeros((40, 50), "u1")
    cloud[10:20, 5:30] = 3 << 1
    raster, mask = sp.from_array(values, grid=grid), sp.from_array(cloud, grid=grid)
    (left, top), (right, bottom) = (
        grid.center(row=row - 0.5, column=column - 0.5) for row, column in ((10, 5), (20, 30))
    )
    ring = [(left, top), (right, top), (right, bottom), (left, bottom), (left, top)]
    shape = {"type": "Polygon", "coordinates": [[list(point) for point in ring]]}
    path = tmp_path / "clouds.geojson"
    path.write_text(json.dumps(shape))
    chosen = sp.mask(mask, bits="bits 1-2 = 3")
    for without in (mask, chosen, sp.read_shapes(path, crs=grid.crs_text)):
        look = sp.limits_like(raster, sp.Look(limits="minmax"), without=without)
        scale = sp.render(raster, look).scales[0]
        assert (scale.low, scale.high, scale.limits) == (100, 199, "minmax")
    with pytest.warns(sp.DataWarning, match="the same whatever the values"):
        sp.limits_like(raster, sp.Look(limits="type"), without=mask)


def test_what_has_no_common_limits_is_told():
    three, one = MIXES["uint16"][0], sp.from_array(np.ones((4, 5), "u2"))
    for rasters, look, match in (
        ([three, one], None, "different numbers of channels .*3, .*1"),
        ([], None, "not an empty list"),
        ([one, sp.from_array(np.full((2, 2), np.nan))], sp.Look(limits=(2, 9)), None),
        ([sp.from_array(np.full((2, 2), np.nan))], None, "none of them has a valid value"),
    ):
        if match is None:
            assert str(sp.limits_like(rasters, look).limits[0]) == "fixed:2,9"
            continue
        with pytest.raises(sp.LookError, match=match):
            sp.limits_like(rasters, look)


def test_in_a_comparison_types_follow_one_rule():
    small, large = (sp.from_array(np.arange(100, dtype=kind).reshape(10, 10)) for kind in
                    ("u1", "u2"))  # fmt: skip
    sources = [raster._source for raster in (small, large)]
    looks, note = one_rule([(source, sp.Look()) for source in sources])
    assert {str(look.limits[0]) for look in looks} == {"percentile:1,99"}
    assert note == "limits percentile:1,99 for all, since their types differ (uint16, uint8)"
    for mix in ([sources[0]] * 2, [sources[1]] * 2):
        assert one_rule([(source, sp.Look()) for source in mix]) == ([sp.Look()] * 2, None)
    said = [text.get_text() for text in sp.figures.compare([small, large]).texts]
    assert note in said
    assert sum("percentile:1,99" in text for text in said) == 3
    named = sp.Look(limits="type")
    assert one_rule([(sources[0], named), (sources[1], sp.Look())])[0][0] == named


def test_limits_like_a_file_are_those_it_is_shown_with(run, tmp_path):
    values = np.arange(100, dtype="u2").reshape(10, 10)
    for name, look in (("plain", None), ("kept", sp.Look(limits=(3, 60))),
                       ("missing", sp.Look(limits=(5000, 6000)))):  # fmt: skip
        raster = sp.from_array(values + (0 if name != "plain" else 200))
        (raster if look is None else raster.with_look(look)).save(tmp_path / f"{name}.tif")
    for drawn in ("plain", "kept", "missing"):
        for like in ("plain", "kept", "missing"):
            scales = []
            for more in (
                [tmp_path / f"{like}.tif"],
                [tmp_path / f"{drawn}.tif", "--limits-like", tmp_path / f"{like}.tif"],
            ):
                out = run("render", *more, "-o", tmp_path / "o.png", "--overwrite", "--json")[1]
                scale = json.loads(out)["results"][0]["scales"][0]
                scales.append((scale["low"], scale["high"]))
            assert scales[0] == scales[1], (drawn, like)


def test_many_files_with_limits_of_all_of_one_or_of_each(run, tmp_path, utm):
    grid = utm.cropped(((0, 40), (0, 50)))
    rasters = [scene("u2", top, shape=(1, 40, 50), grid=grid) for top in (2000, 5000, 9000)]
    names = [tmp_path / f"{letter}.tif" for letter in "abc"]
    for raster, name in zip(rasters, names, strict=True):
        raster.save(name)
    values = physical(rasters, 1)
    wrong = tmp_path / "wrong.tif"
    wrong.write_bytes(b"II*\0")

    def ends(*options, files=names):
        status, out, _ = run("render", *files, "--limits", "minmax", "--overwrite", "--json",
                             "--out-dir", tmp_path / "o", *options)  # fmt: skip
        results = [one for one in json.loads(out)["results"] if "error" not in one]
        scales = [one["scales"][0] for one in results]
        return status, results[0]["limits_of"], [(one["low"], one["high"]) for one in scales]

    pooled = (values.min(), values.max())
    own = [(one.min(), one.max()) for one in (physical([raster], 1) for raster in rasters)]
    assert ends("--shared-scenes") == (0, "all", [pooled] * 3)
    assert ends("--shared-scenes", files=[wrong, *names]) == (1, "all", [pooled] * 3)
    assert ends() == (0, "each", own)
    assert ends("--limits-like", names[1]) == (0, str(names[1]), [own[1]] * 3)
    told = run("render", *names, "--out-dir", tmp_path / "o", "--overwrite", "--shared-scenes")[1]
    assert "limits: found in all files together" in told
    for command, target in (("compare", "c.png"), ("overlay", "o.png"), ("page", "p.html")):
        asked = ["--limits", "minmax", "--shared-scenes", "--json"]
        status, out, err = run(command, *names, "-o", tmp_path / target, *asked)
        assert (status, err) == (0, "")
        if command == "overlay":
            layers = json.loads(out)["results"][0]["layers"]
            assert len({one["scales"][0] for one in layers}) == 1
    for wrong_use in (["--shared-scenes", "--limits-like", names[0]], ["--bits", "bit 0 = 1"]):
        assert run("render", names[0], "-o", tmp_path / "x.png", *wrong_use)[0] == 2
