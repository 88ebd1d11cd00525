"""What an item says of itself, by STAC 1.0 and 1.1, and what is unusual about it."""

from __future__ import annotations

from datetime import datetime

import pytest
from tests.catalogs.making import item

from spectrane.catalogs.dates import Span, has_zone, read_moment
from spectrane.catalogs.items import box_geometry, item_of, resolved
from spectrane.model.errors import FormatError, LookError

BOTH = {
    "1.1": {"bands": [{"name": "B04", "eo:common_name": "red", "eo:center_wavelength": 0.665,
                       "raster:scale": 1e-4, "raster:offset": -0.1, "nodata": 0, "unit": "1"}]},
    "1.0": {"eo:bands": [{"name": "B04", "common_name": "red", "center_wavelength": 0.665}],
            "raster:bands": [{"scale": 1e-4, "offset": -0.1, "nodata": 0, "unit": "1"}]},
    "1.1, said of the asset": {"bands": [{"name": "B04"}], "eo:common_name": "red", "nodata": 0,
                               "eo:center_wavelength": 0.665, "raster:scale": 1e-4, "unit": "1",
                               "raster:offset": -0.1},
}  # fmt: skip


@pytest.mark.parametrize("version", BOTH)
def test_bands_are_read_alike_in_both_versions(version):
    asset = {"href": "./red.tif", "roles": ["data"]} | BOTH[version]
    found = item_of(item(assets={"red": asset}), "cat/a.json").assets["red"]
    band = found.bands[0]
    assert (band.name, band.role, band.wavelength, band.unit) == ("B04", "red", 665.0, "1")
    assert (band.scale, band.offset, band.nodata) == (1e-4, -0.1, 0.0)
    assert found.href == "cat/red.tif"


@pytest.mark.parametrize(
    ("value", "expected"),
    [("nan", "nan"), ("inf", "inf"), ("-inf", "-inf"), (-9999, "-9999.0"), ("none", "None"),
     (True, "None")],
)  # fmt: skip
def test_nodata_in_words(value, expected):
    asset = {"href": "a.tif", "bands": [{"name": "b", "nodata": value}]}
    assert str(item_of(item(assets={"a": asset}), "a.json").assets["a"].bands[0].nodata) == expected


def test_a_collection_says_what_its_items_share():
    shared = {"item_assets": {"red": {"roles": ["data"], "bands": [{"name": "red"}]}}}
    found = item_of(item(assets={"red": {"href": "r.tif"}}), "a.json", shared)
    assert found.assets["red"].bands[0].name == "red"
    assert found.assets["red"].roles == ("data",)


@pytest.mark.parametrize(
    ("asset", "data", "mask", "picture"),
    [
        ({"href": "a.tif"}, True, False, False),
        ({"href": "a.txt"}, False, False, False),
        ({"href": "a", "type": "image/tiff"}, True, False, False),
        ({"href": "a.xml", "type": "application/xml"}, False, False, False),
        ({"href": "a.png", "roles": ["thumbnail"]}, False, False, True),
        ({"href": "a.tif", "roles": ["data-mask"]}, False, True, False),
        ({"href": "a.tif", "roles": ["cloud", "classification"]}, False, True, False),
        ({"href": "a.xml", "roles": ["metadata"]}, False, False, False),
        ({"href": "a.tif", "roles": ["data"], "classification:classes": []}, True, True, False),
    ],
)
def test_what_assets_are_for(asset, data, mask, picture):
    found = item_of(item(assets={"x": asset}), "a.json").assets["x"]
    assert (found.is_data, found.is_mask, found.is_picture) == (data, mask, picture)


def test_a_band_in_two_files_is_taken_once():
    red = {"bands": [{"name": "B04", "eo:common_name": "red"}], "roles": ["data"]}
    assets = {"red": {"href": "r.tif"} | red, "red-jp2": {"href": "r.jp2"} | red}
    assert [one.key for one in item_of(item(assets=assets), "a.json").data_assets()] == ["red"]


@pytest.mark.parametrize(
    ("properties", "start", "end", "note"),
    [
        ({"datetime": "2026-04-12T10:30:00Z"}, datetime(2026, 4, 12, 10, 30), None, ""),
        ({"datetime": "2026-04-12T12:30:00+02:00"}, datetime(2026, 4, 12, 10, 30), None, ""),
        ({"datetime": "2026-04-12T10:30:00.1234567Z"}, datetime(2026, 4, 12, 10, 30, 0, 123456),
         None, ""),
        ({"datetime": "2026-04-12T10:30:00"}, datetime(2026, 4, 12, 10, 30), None, "no zone"),
        ({"datetime": None, "start_datetime": "2026-04-01T00:00:00Z",
          "end_datetime": "2026-04-30T00:00:00Z"}, datetime(2026, 4, 1), datetime(2026, 4, 30), ""),
        ({"datetime": None, "start_datetime": "2026-04-30T00:00:00Z",
          "end_datetime": "2026-04-01T00:00:00Z"}, datetime(2026, 4, 1), datetime(2026, 4, 30),
         "ends before"),
        ({"datetime": None}, None, None, "no date"), ({"datetime": "soon"}, None, None, "is none"),
    ],
)  # fmt: skip
def test_dates_of_items(properties, start, end, note):
    found = item_of(item(date=None, properties=properties), "a.json")
    assert (found.start, found.end) == (start, end or start)
    told = [one for one in found.notes if "assets" not in one]
    assert (note in " ".join(told)) if note else told == []


@pytest.mark.parametrize(
    ("given", "note"),
    [
        ({"geometry": None}, "its box is taken"), ({"geometry": None, "bbox": None}, "no geometry"),
        ({"geometry": None, "bbox": [1, 2, "x", 4]}, "no geometry"),
        ({"properties": {"eo:cloud_cover": 140}}, "no percentage"),
        ({"properties": {"eo:cloud_cover": "few"}}, "no percentage"), ({}, "no assets"),
    ],
)  # fmt: skip
def test_what_is_unusual_is_told(given, note):
    assert any(note in one for one in item_of(item(**given), "a.json").notes)


@pytest.mark.parametrize("given", [None, [], "x", {"type": "Polygon"}, {"type": "Catalog"}])
def test_what_is_no_item_is_said(given):
    with pytest.raises(FormatError, match=r"a\.json: is no item"):
        item_of(given, "a.json")


def test_hostile_items_are_borne():
    odd = {"href": "c.tif", "roles": "data", "eo:bands": [None, 5, {"name": {}}],
           "raster:bands": "x"}  # fmt: skip
    wild = item(assets={"a": {"href": 5}, "b": None, "c": odd}, collection=["x"],
                properties={"eo:bands": [{}, 3]}, geometry={"type": 5})  # fmt: skip
    found = item_of(wild, "a.json")
    assert list(found.assets) == ["c"]


@pytest.mark.parametrize(
    ("href", "base", "place"),
    [
        ("./b.tif", "https://a.example/c/i.json", "https://a.example/c/b.tif"),
        ("/x/b.tif", "https://a.example/c/i.json", "https://a.example/x/b.tif"),
        ("s3://b/c.tif", "i.json", "s3://b/c.tif"), ("../b.tif", "c/d/i.json", "c/b.tif"),
        ("/data/b.tif", "c/i.json", "/data/b.tif"), ("file:///data/b.tif", "c/i.json", "file:///data/b.tif"),
        ("b.tif", "zip://c/i.json::a.zip", "zip://c/b.tif::a.zip"),
        ("../b.tif", "memory://c/d/i.json", "memory://c/b.tif"),
    ],
)  # fmt: skip
def test_links_lead_from_where_they_stand(href, base, place):
    assert resolved(href, base) == place


@pytest.mark.parametrize(
    ("first", "last", "moment", "inside"),
    [
        ("2026-04-12", "2026-04-12", "2026-04-12T00:00:00Z", True),
        ("2026-04-12", "2026-04-12", "2026-04-12T23:59:59.9Z", True),
        ("2026-04-12", "2026-04-12", "2026-04-13T00:00:00Z", False),
        ("2026-04-12", "2026-04-12", "2026-04-11T23:30:00-02:00", True),
        ("2026-04", "2026-04", "2026-04-30T23:00:00Z", True), ("2026", "2026", "2026-12-31", True),
        (None, "2026-04-12T10:30:00Z", "2026-04-12T10:30:00Z", True),
        (None, "2026-04-12T10:30:00Z", "2026-04-12T10:30:01Z", False),
        ("..", "2026-03", "1999-01-01", True), ("2026-05", "..", "2026-04-30T23:59:59Z", False),
        ("20260412", None, "2026-04-12", True),
    ],
)  # fmt: skip
def test_both_ends_of_a_span_belong_to_it(first, last, moment, inside):
    found = read_moment(moment)
    assert Span.of(first, last).meets(found, found) == inside


@pytest.mark.parametrize(
    ("first", "last"), [("soon", None), ("2026-05", "2026-04"), ("2026-13", None)]
)
def test_wrong_dates_are_said(first, last):
    with pytest.raises(LookError, match="date"):
        Span.of(first, last)


def test_spans_meet_spans():
    may = Span.of("2026-05", "2026-05")
    assert may.meets(datetime(2026, 4, 1), datetime(2026, 5, 1))
    assert may.meets(None, None)
    assert not may.meets(datetime(2026, 6, 1), None)
    assert has_zone("2026-04-12T10:30:00+0200")
    assert len(box_geometry(179, 0, -179, 1)["coordinates"]) == 2
