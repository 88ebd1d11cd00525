"""Texts from files, whatever they hold, in XML, pages and tables."""

from __future__ import annotations

import zipfile

import defusedxml.ElementTree
import numpy as np

import spectrane as sp

NASTY = 'a\x00\x1b[2J\x0b<b>&"\ufffe\udcff{{script}}{{title}}'
KEPT = "<b>&"


def layers():
    grid = sp.Grid.from_corner((8, 8), x=10, y=8, pixel_size=1, crs="EPSG:4326")
    raster = sp.from_array(np.arange(64.0).reshape(8, 8), grid=grid, bands=[sp.Band(NASTY)])
    return [sp.Layer(raster, name=NASTY)]


def test_xml_is_well_formed_whatever_names_hold(tmp_path):
    sp.pages.write_kml(layers(), tmp_path / "a.kmz", title=NASTY, size=(16, 16))
    with zipfile.ZipFile(tmp_path / "a.kmz") as archive:
        kml = defusedxml.ElementTree.fromstring(archive.read("doc.kml"))
    names = [one.text for one in kml.iter("{http://www.opengis.net/kml/2.3}name")]
    assert len(names) == 2
    assert all(KEPT in one for one in names)
    sp.pages.tiles(layers(), tmp_path / "tiles", zooms=(2, 2), title=NASTY)
    wmts = defusedxml.ElementTree.parse(tmp_path / "tiles/wmts.xml").getroot()
    assert KEPT in wmts.find(".//{http://www.opengis.net/ows/1.1}Title").text
    raster = sp.from_array(np.ones((1, 4, 4), "u1"), bands=[sp.Band(NASTY, description=NASTY)])
    raster.save(tmp_path / "a.tif")
    band = sp.open_raster(tmp_path / "a.tif").bands[0]
    assert KEPT in band.name
    assert KEPT in band.description


def test_a_pages_marks_are_replaced_in_one_pass(tmp_path):
    sp.pages.overlay_page(layers(), tmp_path / "a.html", title=NASTY)
    text = (tmp_path / "a.html").read_text(encoding="utf-8")
    assert "{{script}}{{title}}" in text  # as the title says
    assert text.count("<script") == text.count("</script>") == 2
    assert "&lt;b&gt;&amp;" in text
    assert not any(ord(ch) < 32 and ch not in "\t\n\r" for ch in text)


def test_no_cell_of_a_table_is_a_formula(tmp_path, run):
    bands = [sp.Band("=1+1"), sp.Band("@cmd"), sp.Band("sea")]
    sp.from_array(-np.ones((3, 4, 4), "i2"), bands=bands).save(tmp_path / "a.tif")
    assert (
        run("probe", tmp_path / "a.tif", "--pixel-at", "1,1", "--csv", tmp_path / "t.csv")[0] == 0
    )
    text = (tmp_path / "t.csv").read_text(encoding="utf-8")
    assert "'=1+1" in text
    assert "'@cmd" in text
    assert ",-1," in text
    assert not any(
        cell.startswith(("=", "@")) for line in text.split("\n") for cell in line.split(",")
    )
