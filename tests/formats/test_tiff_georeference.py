"""GeoTIFF 1.1: where images lie."""

from __future__ import annotations

import warnings

import numpy as np
import pyproj
import pytest
from tests.tiff_builder import image, tiff

import spectrane as sp
from spectrane.formats.registry import open_source
from spectrane.model.errors import DataWarning, FormatError, GridMismatch

SCALE = (33550, "d", [10.0, 20.0, 0.0])
TIE = (33922, "d", [0.0, 0.0, 0.0, 480000.0, 7360000.0, 0.0])


def keys(*entries, text=b""):
    """Return the GeoKey fields of (key, place, count, value) entries."""
    flat = [1, 1, 1, len(entries), *(number for entry in entries for number in entry)]
    fields = [(34735, "H", flat)]
    return fields + ([(34737, "s", text)] if text else [])


AREA, POINT = (1025, 0, 1, 1), (1025, 0, 1, 2)
PROJECTED = [(1024, 0, 1, 1), (3072, 0, 1, 32727)]
GEOGRAPHIC = [(1024, 0, 1, 2), (2048, 0, 1, 4326)]


def grid_of(tmp_path, extra):
    (tmp_path / "a.tif").write_bytes(tiff(image(np.zeros((4, 6), np.uint8), extra=extra)))
    return open_source(tmp_path / "a.tif").grid


@pytest.mark.parametrize(
    ("extra", "affine", "crs"),
    [
        ([SCALE, TIE, *keys(PROJECTED[0], AREA, PROJECTED[1])],
         ((10, 0, 480000), (0, -20, 7360000), (0, 0, 1)), "EPSG:32727"),
        ([SCALE, TIE, *keys(PROJECTED[0], POINT, PROJECTED[1])],
         ((10, 0, 479995), (0, -20, 7360010), (0, 0, 1)), "EPSG:32727"),
        ([SCALE, (33922, "d", [2.0, 3.0, 0, 480000.0, 7360000.0, 0]), *keys(*GEOGRAPHIC)],
         ((10, 0, 479980), (0, -20, 7360060), (0, 0, 1)), "EPSG:4326"),
        ([(34264, "d", [8.0, 3, 0, 100, 3, -8, 0, 200, 0, 0, 0, 0, 0, 0, 0, 1]),
          *keys(*PROJECTED)], ((8, 3, 100), (3, -8, 200), (0, 0, 1)), "EPSG:32727"),
        ([(34264, "d", [8.0, 3, 0, 100, 3, -8, 0, 200, 0, 0, 0, 0, 0, 0, 0, 1]),
          *keys(PROJECTED[0], POINT, PROJECTED[1])],
         ((8, 3, 94.5), (3, -8, 202.5), (0, 0, 1)), "EPSG:32727"),
        ([SCALE, TIE, *keys(*PROJECTED, (4096, 0, 1, 5773))],
         ((10, 0, 480000), (0, -20, 7360000), (0, 0, 1)), "EPSG:32727+5773"),
        ([SCALE, TIE, *keys(PROJECTED[0], (2048, 0, 1, 4326), PROJECTED[1])],
         ((10, 0, 480000), (0, -20, 7360000), (0, 0, 1)), "EPSG:32727"),
    ],
    ids=["area", "point", "tie inside", "transformation", "transformation of points", "compound",
         "base and projection"],
)  # fmt: skip
def test_places(tmp_path, extra, affine, crs):
    grid = grid_of(tmp_path, extra)
    assert grid.affine == affine
    assert grid.crs_text == crs
    assert grid.placed
    assert grid.y_up


def test_epsg_codes_are_parsed_when_asked_for(tmp_path):
    grid = grid_of(tmp_path, [SCALE, TIE, *keys(*PROJECTED)])
    assert grid.crs.to_epsg() == 32727


@pytest.mark.parametrize(
    ("extra", "text"),
    [
        ([SCALE, TIE, *keys((1024, 0, 1, 1), (1026, 34737, 12, 0), (3072, 0, 1, 32767),
                            text=b"Halse local|\0")], "Halse local"),
        ([SCALE, TIE, *keys((1024, 0, 1, 1), (2048, 0, 1, 4326), (3072, 0, 1, 32767),
                            (3074, 0, 1, 32767))], "user-defined projected system"),
    ],
    ids=["citation", "nothing but numbers"],
)  # fmt: skip
def test_what_has_no_code_is_kept_as_text_and_told(tmp_path, extra, text):
    with pytest.warns(DataWarning, match="is only the text"):
        grid = grid_of(tmp_path, extra)
    assert grid.crs_text == text
    assert grid.placed
    assert grid.crs is None


@pytest.mark.parametrize(
    ("extra", "match"),
    [
        ([(33922, "d", [0.0, 0, 0, 1, 2, 0] * 4)], "4 tie points but no pixel scale"),
        ([SCALE], "no tie point"),
        ([(33550, "d", [0.0, 0.0, 0.0]), TIE], "not usable"),
    ],
)
def test_half_a_place_is_told(tmp_path, extra, match):
    with pytest.warns(DataWarning, match=match):
        assert not grid_of(tmp_path, extra).placed


@pytest.mark.parametrize(
    "extra",
    [
        [(34735, "H", [1, 1])],
        [(34735, "H", [7, 1, 1, 0])],
        [(34735, "H", [1, 1, 1, 1, 2057, 34736, 1, 9])],
        [(34264, "d", [1.0] * 9)],
        [(33550, "d", [1.0]), TIE],
    ],
)
def test_broken_keys_are_named(tmp_path, extra):
    with pytest.raises(FormatError, match="tag 3"):
        grid_of(tmp_path, extra)


def test_metadata_has_readable_names(tmp_path):
    extra = [SCALE, TIE, *keys(*PROJECTED), (270, "s", b"a drawing\0"), (305, "s", b"by hand\0")]
    (tmp_path / "a.tif").write_bytes(tiff(image(np.zeros((4, 6), np.uint8), extra=extra)))
    found = open_source(tmp_path / "a.tif").metadata
    assert found["ImageDescription"] == "a drawing"
    assert found["GeoKeys"] == {"GTModelType": 1, "ProjectedCRS": 32727}
    assert found["compression"] == "none"


BASE = {1024: 1, 3072: 32767, 2048: 4326, 3076: 9001}
ETRS = {**BASE, 2048: 4258}
FOOT, GRAD = 1200 / 3937, 0.9
# What keys define part by part, and a system that has it as a code or in PROJ's words.
DEFINED = {
    "transverse Mercator": (
        {**BASE, 3075: 1, 3080: -21.0, 3081: 0.0, 3082: 5e5, 3083: 1e7, 3092: 0.9996},
        "EPSG:32727"),
    "its operation by code": ({**BASE, 3074: 16127}, "EPSG:32727"),
    "in feet and grads": (
        {1024: 1, 3072: 32767, 2048: 32767, 2050: 6326, 2054: 9105, 3076: 9003, 3075: 1,
         3080: -21.0 / GRAD, 3081: 0.0, 3082: 5e5 / FOOT, 3083: 1e7 / FOOT, 3092: 0.9996},
        "+proj=utm +zone=27 +south +datum=WGS84 +units=us-ft"),
    "Lambert, equal area": (
        {**ETRS, 3075: 10, 3089: 52.0, 3088: 10.0, 3082: 4321000.0, 3083: 3210000.0},
        "EPSG:3035"),
    "Lambert, two parallels": (
        {**ETRS, 3075: 8, 3078: 35.0, 3079: 65.0, 3085: 52.0, 3084: 10.0, 3086: 4e6, 3087: 2.8e6},
        "EPSG:3034"),
    "polar, true at 71 south": ({**BASE, 3075: 15, 3081: -71.0, 3095: 0.0}, "EPSG:3031"),
    "polar, scaled": (
        {**BASE, 3075: 15, 3081: 90.0, 3095: 0.0, 3092: 0.994, 3082: 2e6, 3083: 2e6}, "EPSG:32661"),
    "Mercator, true at a parallel": ({**BASE, 3075: 7, 3078: -41.0, 3080: 100.0}, "EPSG:3994"),
    "Albers": (
        {**BASE, 3075: 11, 3078: -18.0, 3079: -36.0, 3081: 0.0, 3080: -20.0},
        "+proj=aea +lat_1=-18 +lat_2=-36 +lon_0=-20 +datum=WGS84"),
    "sinusoidal": ({**BASE, 3075: 24, 3080: -20.0}, "+proj=sinu +lon_0=-20 +datum=WGS84"),
    "oblique Mercator": (
        {**BASE, 3075: 9815, 3089: -23.0, 3088: -21.0, 3094: 53.0, 3096: 53.13, 3093: 0.99984,
         3090: 59000.0, 3091: 44000.0},
        "+proj=omerc +lat_0=-23 +lonc=-21 +alpha=53 +gamma=53.13 +k=0.99984 +x_0=59000 "
        "+y_0=44000 +datum=WGS84"),
    "its own ellipsoid": (
        {1024: 1, 3072: 32767, 2048: 32767, 2057: 6378137.0, 2059: 298.257223563, 3076: 9001,
         3075: 12, 3081: -23.0, 3080: -21.0},
        "+proj=aeqd +lat_0=-23 +lon_0=-21 +ellps=WGS84"),
    "degrees, by ellipsoid and shift": (
        {1024: 2, 2048: 32767, 2056: 7030, 2061: 0.0, 2054: 9102, 2062: [0.0] * 3}, "EPSG:4326"),
}  # fmt: skip


@pytest.mark.parametrize("name", DEFINED)
def test_systems_that_keys_define_part_by_part(tmp_path, name):
    given, known = DEFINED[name]
    doubles, entries = [], []
    for key, value in sorted(given.items()):
        if isinstance(value, int):
            entries.append((key, 0, 1, value))
            continue
        numbers = value if isinstance(value, list) else [value]
        entries.append((key, 34736, len(numbers), len(doubles)))
        doubles += numbers
    fields = [SCALE, TIE, *keys(*entries), (34736, "d", doubles or [0.0])]
    with warnings.catch_warnings():
        warnings.simplefilter("error")
        found = grid_of(tmp_path, fields).crs
    assert found is not None
    known = pyproj.CRS(known)
    for place in ((-20.7, -23.4), (-22.0, -25.0)):
        there = [pyproj.Transformer.from_crs("EPSG:4326", one, always_xy=True).transform(*place)
                 for one in (found, known)]  # fmt: skip
        assert there[0] == pytest.approx(there[1], rel=1e-9, abs=1e-3)


def test_a_text_that_names_no_system_hinders_nothing_else(tmp_path):
    text = b"the painter's own|"
    with pytest.warns(DataWarning, match="is only the text .*amend .*a.tif --crs EPSG:CODE"):
        grid = grid_of(tmp_path, [SCALE, TIE, *keys((1024, 0, 1, 1), (1026, 34737, 18, 0),
                                                    text=text)])  # fmt: skip
    assert (grid.crs, grid.crs_text) == (None, "the painter's own")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        raster = sp.open(tmp_path / "a.tif")
        raster.describe().to_dict()
        sp.render(raster)
        assert sp.probe(raster, x=480015, y=7359970).shape[0] == 1
        for ending in (".tif", ".nc", ".fits", ".png"):
            raster.save(tmp_path / f"b{ending}")
            assert sp.open(tmp_path / f"b{ending}").grid.crs_text == "the painter's own"
        both = sp.mosaic([raster, raster])
        assert both.grid.crs_text == "the painter's own"
        with pytest.raises(GridMismatch, match="from which nothing leads to another"):
            raster.regrid(crs="EPSG:4326")


def test_what_is_written_without_a_code_comes_back(tmp_path):
    system = pyproj.CRS("+proj=aeqd +lat_0=-23 +lon_0=-21 +datum=WGS84")
    grid = sp.Grid.from_corner((4, 6), x=0, y=0, pixel_size=10, crs=system.to_wkt())
    sp.from_array(np.zeros((4, 6), "u1"), grid=grid).save(tmp_path / "a.tif")
    assert sp.open(tmp_path / "a.tif").grid.crs == system


def test_rational_polynomials_are_told(tmp_path):
    with pytest.warns(DataWarning, match="known only by a model that is not applied"):
        assert not grid_of(tmp_path, [(50844, "d", [0.0] * 92)]).placed
