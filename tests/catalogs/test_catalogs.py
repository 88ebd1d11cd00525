"""Catalogues as they are met: folders, archives, the web, searches that lack this and that."""

from __future__ import annotations

import json
import os
import zipfile
from pathlib import Path

import numpy as np
import pytest
from click.testing import CliRunner
from PIL import Image
from tests.catalogs.making import band_file, catalog, item

import spectrane as sp
from spectrane.catalogs.fetching import fetch_item
from spectrane.catalogs.finding import Scenes, find_scenes
from spectrane.catalogs.items import item_of
from spectrane.cli.entry import commands
from spectrane.demo.catalog_server import Catalogue, serving
from spectrane.figures.footprints import footprints, quick_look
from spectrane.model.errors import (
    AccessError,
    BandError,
    ChangedFile,
    ExistingFile,
    FormatError,
    LookError,
    MetadataError,
)

BED = (-21.1066, -23.9214, -21.0777, -23.9155)
"""About the demo's eelgrass bed."""


def ids(scenes):
    return [one.item.id for one in scenes.found]


def test_the_demo_holds_what_it_says(acquisitions):
    scenes = find_scenes(str(acquisitions), over=BED)
    assert len(scenes.found) + len(scenes.left_out) == 14
    assert [one.left_out for one in scenes.left_out] == ["misses the area"] * 2
    assert sum(one.item.cloud > 95 for one in scenes.found) == 1
    assert scenes.notes == ()


def test_a_catalogue_below_catalogues(tmp_path):
    for name in ("x", "y"):
        (tmp_path / name).mkdir()
        catalog(tmp_path / name, [item(f"{name}1"), item(f"{name}2")], type="Collection", id=name)
    links = [{"rel": "child", "href": f"./{name}/catalog.json"} for name in ("x", "y", "gone")]
    links += [{"rel": "child", "href": "./catalog.json"}, {"rel": "item"}, 5]  # itself, and broken
    catalog(tmp_path, [item("own")], links=links)
    found = find_scenes(str(tmp_path))
    assert sorted(ids(found)) == ["x1", "x2", "y1", "y2"]
    assert len(found.notes) == 1
    assert "gone" in found.notes[0]
    assert sorted(ids(find_scenes(str(tmp_path), collections=["y"]))) == []  # items name none
    assert not find_scenes(str(tmp_path), collections=["z"]).found


def test_broken_items_do_not_stop_the_rest(tmp_path):
    path = catalog(tmp_path, [item("a"), item("b"), item("c")])
    (tmp_path / "b.json").write_text("{")
    (tmp_path / "c.json").write_text('{"type": "Feature", "geometry": 5}')
    found = find_scenes(str(path))
    assert ids(found) == ["a", "c"]
    assert "b.json" in found.notes[0]
    twice = catalog(tmp_path, [item("a")], type="FeatureCollection", features=[item("a")] * 2)
    assert "twice" in find_scenes(str(twice)).notes[0]


def test_a_catalogue_inside_an_archive(acquisitions, tmp_path):
    with zipfile.ZipFile(tmp_path / "a.zip", "w") as archive:
        for folder, _, files in os.walk(acquisitions):
            for name in files:
                path = os.path.join(folder, name)
                archive.write(path, os.path.join("deep", os.path.relpath(path, acquisitions)))
    found = find_scenes(str(tmp_path / "a.zip"), over=BED, cloud=20)
    plain = find_scenes(str(acquisitions), over=BED, cloud=20)
    assert ids(found) == ids(plain)
    assert found.found[0].cloud_over == plain.found[0].cloud_over
    with sp.open(found.found[0].item, assets=["red"]) as one, sp.open(
            plain.found[0].item, assets=["red"]) as other:  # fmt: skip
        np.testing.assert_array_equal(one.pixels(), other.pixels())
    (tmp_path / "b.zip").write_bytes(b"PK no archive")
    with zipfile.ZipFile(tmp_path / "c.zip", "w") as archive:
        archive.writestr("a.txt", "nothing")
    for name in ("b", "c"):
        with pytest.raises(FormatError, match=rf"{name}\.zip"):
            find_scenes(str(tmp_path / f"{name}.zip"))


SERVERS = {
    "posting": {}, "getting": {"posting": False}, "busy twice": {"failures": 2},
    "unsorted": {"sorting": False}, "one at a time": {"page": 1},
    "getting, unsorted": {"posting": False, "sorting": False, "page": 2},
}  # fmt: skip


@pytest.mark.parametrize("server", SERVERS)
def test_searches_find_what_the_folder_has(acquisitions, server, monkeypatch):
    monkeypatch.setattr("spectrane.engine.documents._PAUSE", 0.001)
    catalogue = Catalogue(acquisitions, **({"page": 4} | SERVERS[server]))
    with serving(catalogue) as url:
        found = find_scenes(f"{url}/", over=BED, start="2026-04", end="2026-06", cloud=40)
        near = find_scenes(str(acquisitions), over=BED, start="2026-04", end="2026-06", cloud=40,
                           measure_cloud=False)  # fmt: skip
    assert ids(found) == ids(near)
    assert found.notes == ()
    assert {one["method"] for one in catalogue.asked} == {"GET" if "getting" in server else "POST"}
    assert ("sortby" in catalogue.asked[0]) == ("unsorted" not in server)
    assert catalogue.asked[0]["datetime"] == "2026-04-01T00:00:00Z/2026-06-30T23:59:59.999999Z"


def test_scenes_of_the_web_open_and_nothing_else_is_read(acquisitions):
    catalogue = Catalogue(acquisitions)
    with serving(catalogue) as url:
        scenes = find_scenes(f"{url}/", over=BED, cloud=20)
        assert all(one.cloud_over is None for one in scenes.found)
        measured = find_scenes(f"{url}/", over=BED, measure_cloud=True)
        assert any(one.cloud_over is not None for one in measured.found)
        best = scenes.found[0].item
        with sp.open(best, assets=["nir", "red"]) as raster:
            assert [band.role for band in raster.bands] == ["nir", "red"]
            near = sp.open(acquisitions / best.id / f"{best.id}.json")
            np.testing.assert_array_equal(raster.pixels("red"), near.pixels("red"))
        assert quick_look(best).shape[2] == 4


@pytest.mark.parametrize(
    ("answer", "said"),
    [
        ({"type": "Catalog", "conformsTo": [], "links": []}, "offers no search"),
        ({"type": "FeatureCollection"}, None), ([], "is no catalogue"), ("page", "no JSON"),
        (400, "400.*bbox: too large"), (404, "404"), (503, r"503.*3 times"),
    ],
)  # fmt: skip
def test_what_a_server_lacks_is_said(answer, said, monkeypatch):
    from starlette.applications import Starlette
    from starlette.responses import JSONResponse, PlainTextResponse
    from starlette.routing import Route

    monkeypatch.setattr("spectrane.engine.documents._PAUSE", 0.001)

    def page(request):
        if isinstance(answer, int):
            return JSONResponse({"description": "bbox: too large"}, answer)
        return PlainTextResponse(answer) if isinstance(answer, str) else JSONResponse(answer)

    monkeypatch.setattr("spectrane.demo.catalog_server.application",
                        lambda _: Starlette(routes=[Route("/", page)]))  # fmt: skip
    with serving(None) as url:
        if said is None:
            assert find_scenes(f"{url}/").found == ()
            return
        with pytest.raises((FormatError, AccessError), match=said):
            find_scenes(f"{url}/")


def test_pages_that_lead_round_end(acquisitions):
    class Round(Catalogue):
        def _next(self, question, base, method, start):
            return {"rel": "next", "href": f"{base}/search", "method": "POST", "merge": True,
                    "body": {"token": 0}}  # fmt: skip

    with serving(Round(acquisitions, page=3)) as url:
        notes = find_scenes(f"{url}/").notes
    assert any("lead back to one another" in note for note in notes)


def test_the_catalogue_says_what_files_do_not(tmp_path):
    band_file(tmp_path, "a.tif", 100)
    band_file(tmp_path, "b.tif", 40, shape=(10, 15), side=20.0)
    said = {"bands": [{"name": "B04", "eo:common_name": "red", "nodata": 100,
                       "raster:scale": 0.5, "raster:offset": 1.0, "unit": "K"}]}  # fmt: skip
    infrared = {"bands": [{"eo:common_name": "nir", "eo:center_wavelength": 0.842}]}
    assets = {"red": {"href": "./a.tif"} | said, "infrared": {"href": "./b.tif"} | infrared}
    (tmp_path / "i.json").write_text(json.dumps(item("i", assets=assets)))
    with sp.open(tmp_path / "i.json") as raster:
        red, nir = raster.bands
        assert (red.name, red.role, red.scale, red.offset, red.unit) == (
            "B04",
            "red",
            0.5,
            1.0,
            "K",
        )
        assert (nir.name, nir.role, nir.wavelength) == ("infrared", "nir", 842.0)
        assert raster.shape == (2, 20, 30)
        assert raster.pixels("red").mask.all()
        assert raster.pixels("nir", physical=True).max() == 40
        assert raster.metadata["STAC"]["eo:cloud_cover"] == 5
    one = item_of(json.loads((tmp_path / "i.json").read_text()), str(tmp_path / "i.json"))
    for names, shape in ((["nir"], 1), (["B04", "infrared"], 2), (["red"], 1)):
        assert sp.open(one, assets=names).shape[0] == shape
    with pytest.raises(BandError, match=r"'rad'.*red"):
        sp.open(one, assets=["rad"])
    with pytest.raises(MetadataError, match="items of a catalogue"):
        sp.open(tmp_path / "a.tif", assets=["red"])


@pytest.mark.parametrize(
    ("assets", "said"),
    [
        ({}, "no asset that holds"), ({"red": {"href": "./gone.tif"}}, "asset red.*gone"),
        ({"red": {"href": "./a.tif", "bands": [{}, {}]}}, "1 bands.*says 2"),
        ({"red": {"href": "./v.nii", "roles": ["data"]}}, "is a volume"),
    ],
)  # fmt: skip
def test_assets_that_do_not_open_are_said(tmp_path, assets, said):
    band_file(tmp_path, "a.tif")
    sp.volume_from_array(np.ones((2, 2, 2), "u1"), affine=np.eye(4)).save(tmp_path / "v.nii")
    (tmp_path / "i.json").write_text(json.dumps(item("i", assets=assets)))
    with pytest.raises(FormatError, match=said):
        sp.open(tmp_path / "i.json")


def test_fetching_brings_all_and_goes_on(acquisitions, tmp_path, monkeypatch):
    catalogue = Catalogue(acquisitions)
    with serving(catalogue) as url:
        scene = find_scenes(f"{url}/", over=BED, cloud=20).found[0].item
        paths = fetch_item(scene, str(tmp_path), assets=["red", "nir"])
        names = sorted(os.path.basename(path) for path in paths)
        assert names == sorted([f"{scene.id}.json", f"{scene.id}_red.tif", f"{scene.id}_nir.tif"])
        with sp.open(paths[0]) as raster:
            assert {band.role for band in raster.bands} == {"red", "nir"}
        red = next(path for path in paths if "red" in path)
        content = Path(red).read_bytes()
        assert content == (acquisitions / scene.id / os.path.basename(red)).read_bytes()
        os.unlink(red)
        monkeypatch.setattr("spectrane.catalogs.fetching._PIECE", 4000)

        def stop(done, size):
            raise KeyboardInterrupt

        with pytest.raises(KeyboardInterrupt):
            fetch_item(scene, str(tmp_path), assets=["red"], progress=stop)
        assert not os.path.exists(red)
        began = []
        fetch_item(
            scene, str(tmp_path), assets=["red"], progress=lambda done, size: began.append(done)
        )
        assert began[0] > 4000  # and not from the beginning
        assert Path(red).read_bytes() == content
        with open(red, "ab") as file:
            file.write(b"more")
        with pytest.raises(ExistingFile, match="another file"):
            fetch_item(scene, str(tmp_path), assets=["red"])
        fetch_item(scene, str(tmp_path), assets=["red"], overwrite=True)
        assert Path(red).read_bytes() == content
        everything = fetch_item(scene, str(tmp_path / "all"))
        assert len(everything) == 7  # the document, four bands, classes, quick-look
    assert not [name for name in os.listdir(os.path.dirname(red)) if "partial" in name]
    assert ids(find_scenes(str(tmp_path / "all"))) != []


def test_names_of_items_lead_nowhere_else(tmp_path):
    band_file(tmp_path, "a.tif")
    wild = item("../../etc/x", assets={"red": {"href": "./a.tif"}})
    paths = fetch_item(item_of(wild, str(tmp_path / "i.json")), str(tmp_path / "home"))
    assert all(os.path.realpath(path).startswith(str(tmp_path / "home")) for path in paths)
    folder = item("f", assets={"red": {"href": ".", "roles": ["data"]}})
    with pytest.raises((FormatError, AccessError, ChangedFile)):
        fetch_item(item_of(folder, str(tmp_path / "i.json")), str(tmp_path / "home"))


def test_footprints_show_what_was_found(acquisitions):
    scenes = find_scenes(str(acquisitions), over=BED, cloud=40)
    figure = footprints(scenes, size=(600, 900))
    said = " ".join(text.get_text() for text in figure.texts)
    assert f"{len(scenes.found)} scenes over the bounds" in said
    assert "% seen, cloud" in said
    assert len(figure.axes) == 1 + min(6, len(scenes.found))
    assert len(figure.axes[0].patches) >= len(scenes.found) + 1
    nothing = Scenes("", None, scenes.span, (), (), (), None, ())
    with pytest.raises(LookError, match="where it lies"):
        footprints(nothing)


def run(*words):
    return CliRunner().invoke(commands, [str(word) for word in words])


def test_the_command_tells_ranks_and_reasons(acquisitions, tmp_path):
    out, table = tmp_path / "f.png", tmp_path / "t.csv"
    over = ",".join(map(str, BED))
    done = run("scenes", acquisitions, "--over", over, "--from", "2026-04",
               "--to", "2026-06", "--cloud", "20", "-o", out, "--csv", table)  # fmt: skip
    assert done.exit_code == 0, (done.output, done.exception)
    assert "Left out" in done.output
    assert "misses the area" in done.output
    assert "spectrane compare" in done.output
    with Image.open(out) as image:
        assert image.size == (1280, 800)
    assert table.read_text().count("halse_") >= 14
    facts = json.loads(run("scenes", acquisitions, "--over", over, "--json").output)
    rows = facts["results"]
    assert len(rows) == 14
    assert [row["rank"] for row in rows if not row["left_out"]] == list(range(1, 13))
    few = json.loads(run("scenes", acquisitions, "--over", ",".join(map(str, BED)), "--fewest",
                         "--json").output)["results"]  # fmt: skip
    assert [row["in_fewest"] for row in few if not row["left_out"]] == [True]


def test_the_command_fetches(acquisitions, tmp_path):
    done = run("scenes", acquisitions, "--over", ",".join(map(str, BED)), "--first", "1", "--fetch",
               tmp_path / "got", "--assets", "red,green,blue", "--json")  # fmt: skip
    assert done.exit_code == 0, (done.output, done.exception)
    fetched = json.loads(done.output)["results"][-1]
    assert len(fetched["files"]) == 4
    drawn = run("render", fetched["output"], "-o", tmp_path / "a.png", "--channels", "natural")
    assert drawn.exit_code == 0, (drawn.output, drawn.exception)


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("--over", "1,2,3"), "west,south,east,north"), (("--cloud", "200"), "--cloud"),
        (("--assets", "red"), "without --fetch"), (("--size", "9x9"), "without -o"),
        (("--from", "soon"), "2026-04-12"), (("--fewest",), "needs an area"),
        (("--over", "gone.tif"), "gone.tif"), (("--first", "0"), "--first"),
    ],
)  # fmt: skip
def test_what_the_command_refuses(acquisitions, words, said):
    done = run("scenes", acquisitions, *words)
    assert done.exit_code in (1, 2)
    assert said in done.output + str(done.exception)


def test_describe_writes_an_item(tmp_path):
    band_file(tmp_path, "sound_20260412.tif")
    done = run("describe", tmp_path / "sound_20260412.tif", "--item")
    document = json.loads(done.output)
    assert document["stac_version"] == "1.1.0"
    assert item_of(document, str(tmp_path / "x.json")).date.isoformat() == "2026-04-12T00:00:00"
    enveloped = json.loads(
        run("describe", tmp_path / "sound_20260412.tif", "--item", "--json").output
    )
    assert enveloped["results"][0]["item"] == document
    assert run("describe", tmp_path / "sound_20260412.tif", "--item", "--statistics").exit_code == 2


def test_the_survey_passes_items_over(acquisitions):
    assert not any(one["path"].endswith(".json") for one in sp.survey_rows(acquisitions))
