"""Catalogues from strangers: whatever a document holds, what happens is said and nothing breaks."""

from __future__ import annotations

import copy
import json
import random
import zipfile

import numpy as np
import pytest
from tests.catalogs.making import band_file, catalog, item, square

import spectrane as sp
from spectrane.catalogs.areas import area_of, geometry_on
from spectrane.catalogs.finding import find_scenes
from spectrane.catalogs.items import item_of
from spectrane.engine.documents import answered, read_json
from spectrane.figures.footprints import footprints
from spectrane.model.errors import AccessError, FormatError, MissingFile, SpectraneError

WILD = (None, True, 0, -1, 1e400, float("nan"), "", "x" * 5000, "\0", [], {}, [[]], [None],
        {"a": {}}, "..", "../../../etc/passwd", "http://[", "zip://::", 2**70)  # fmt: skip
FULL = item(
    "full", assets={"red": {"href": "./red.tif", "type": "image/tiff", "roles": ["data"],
                            "bands": [{"name": "red", "eo:common_name": "red", "nodata": 0}],
                            "classification:classes": [{"value": 1, "name": "cloud"}],
                            "proj:transform": [1, 0, 0, 0, -1, 0]}},
    links=[{"rel": "self", "href": "./full.json"}], collection="c",
)  # fmt: skip


def places(held, path=()):
    """Return the way to every value inside a document."""
    found = [path] if path else []
    children = held.items() if isinstance(held, dict) else ()
    children = enumerate(held) if isinstance(held, list) else children
    for key, value in children:
        found += places(value, (*path, key))
    return found


def spoiled(document, rng):
    """Return a document of which some values are others."""
    made = copy.deepcopy(document)
    for _ in range(rng.randint(1, 3)):
        *way, last = rng.choice(places(made))
        held = made
        for step in way:
            held = held[step]
        if rng.random() < 0.25 and isinstance(held, dict):
            del held[last]
        else:
            held[last] = copy.deepcopy(rng.choice(WILD))
    return made


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("seed", range(8))
def test_spoiled_documents_are_borne(tmp_path, seed):
    band_file(tmp_path, "red.tif")
    rng = random.Random(seed)
    items = [spoiled(FULL, rng) for _ in range(12)]
    path = catalog(tmp_path, [item("sound")])
    document = json.loads(path.read_text())
    for number, one in enumerate(items):
        (tmp_path / f"i{number}.json").write_text(json.dumps(one))
        document["links"].append({"rel": "item", "href": f"./i{number}.json"})
    path.write_text(json.dumps(spoiled(document, rng) if seed % 2 else document))
    try:
        found = find_scenes(str(path), over=(0, 0, 2, 2), start="2026", cloud=50)
    except SpectraneError:
        return
    found.rows()
    for scene in (*found.found, *found.left_out):
        try:
            sp.open(scene.item).close()
        except SpectraneError:
            continue
    if found.found:
        footprints(found, size=(300, 400))


@pytest.mark.parametrize(
    "geometry",
    [
        {"type": "Polygon", "coordinates": [[[0, 0], [1, 1]]]}, {"type": "Polygon"},
        {"type": "Cube", "coordinates": [[0]]}, {"type": "Polygon", "coordinates": 5},
        {"type": "Polygon", "coordinates": [[["a", 0], [1, 1], [2, 0], ["a", 0]]]},
        {"type": "MultiPolygon", "coordinates": [[[[0, 0], [1, 1], [2, None], [0, 0]]]]},
    ],
)  # fmt: skip
def test_geometries_that_are_none_are_said(tmp_path, geometry):
    catalog(tmp_path, [item("odd", geometry=geometry, bbox=None), item("sound")])
    found = find_scenes(str(tmp_path), over=(0, 0, 2, 2))
    assert [one.item.id for one in found.found] == ["sound"]
    assert found.left_out[0].left_out


def test_a_bow_tie_covers_what_it_covers():
    bow = {"type": "Polygon", "coordinates": [[[0, 0], [2, 2], [2, 0], [0, 2], [0, 0]]]}
    area = area_of((0, 0, 2, 2))
    assert area.share(geometry_on(area, bow)) == pytest.approx(0.5, abs=1e-2)
    hole = square(0, 0, 2, 2)
    hole["coordinates"].append([[0.5, 0.5], [0.5, 1.5], [1.5, 1.5], [1.5, 0.5], [0.5, 0.5]])
    assert area.share(geometry_on(area, hole)) == pytest.approx(0.75, abs=1e-3)


def test_documents_say_where_they_fail(tmp_path):
    deep = tmp_path / "deep.json"
    deep.write_text("[" * 100_000)
    with pytest.raises(FormatError, match=r"deep\.json: is no JSON"):
        read_json(str(deep))
    with pytest.raises(MissingFile):
        read_json(str(tmp_path / "none.json"))
    with pytest.raises(MissingFile):
        read_json("memory://none.json")
    for url in ("http://127.0.0.1:9/a.json", "http://nowhere.invalid/a.json"):
        with pytest.raises(AccessError):
            answered(url)


def test_what_lies_in_an_archive_has_its_corrections_there(tmp_path):
    band_file(tmp_path, "a.tif", np.arange(600, dtype=np.uint16).reshape(20, 30))
    (tmp_path / "a.json").write_text(json.dumps(item("a", assets={"red": {"href": "./a.tif"}})))
    sp.amend(tmp_path / "a.tif", nodata=7)
    with zipfile.ZipFile(tmp_path / "z.zip", "w") as archive:
        for name in ("a.tif", "a.json", "a.tif.spectrane.toml"):
            archive.write(tmp_path / name, f"in/{name}")
        links = [{"rel": "item", "href": "./a.json"}]
        root = {"type": "Catalog", "id": "c", "links": links}
        archive.writestr("in/catalog.json", json.dumps(root))
    one = find_scenes(str(tmp_path / "z.zip")).found[0].item
    assert one.href.startswith("zip://in/a.json::")
    with sp.open(one) as raster:
        assert raster.bands[0].nodata == 7
        assert raster.pixels().mask.sum() == 1
    with pytest.raises(MissingFile):
        sp.open(f"zip://in/gone.tif::{tmp_path / 'z.zip'}")
    with pytest.raises((AccessError, MissingFile)):
        sp.open(f"zip://in/a.tif::{tmp_path / 'gone.zip'}")


def test_texts_of_items_are_told_on_one_line(tmp_path):
    catalog(tmp_path, [])
    wild = item("a\x1b[31m\nb", assets={})
    listed = {"type": "FeatureCollection", "features": [wild]}
    (tmp_path / "catalog.json").write_text(json.dumps(listed))
    from click.testing import CliRunner

    from spectrane.cli.entry import commands

    done = CliRunner().invoke(commands, ["scenes", str(tmp_path)])
    assert done.exit_code == 0, done.exception
    assert "\x1b" not in done.output


def test_an_item_can_be_pickled():
    import pickle

    one = item_of(FULL, "a.json")
    assert pickle.loads(pickle.dumps(one)) == one
    with pytest.raises(MissingFile):
        find_scenes(".", over="1,2")
