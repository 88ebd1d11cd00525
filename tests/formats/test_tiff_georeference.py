"""GeoTIFF 1.1: where images lie."""

from __future__ import annotations

import numpy as np
import pytest
from tests.tiff_builder import image, tiff

from spectrane.formats.registry import open_source
from spectrane.model.errors import DataWarning, FormatError, MetadataError

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
    with pytest.warns(DataWarning, match="no EPSG code"):
        grid = grid_of(tmp_path, extra)
    assert grid.crs_text == text
    assert grid.placed
    with pytest.raises(MetadataError, match="give its EPSG code"):
        _ = grid.crs


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
