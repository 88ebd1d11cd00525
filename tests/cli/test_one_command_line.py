"""One command line: a word means one thing, an option is read or refused, answers have one form."""

from __future__ import annotations

import json
import os
import shlex

import click
import numpy as np
import pytest
from PIL import Image

import spectrane as sp
from spectrane.cli import entry
from spectrane.cli.documents import json_schema
from spectrane.cli.options import GROUPS, Grouped
from spectrane.cli.results import RESULTS

COMMANDS = {name: entry.commands.get_command(click.Context(entry.commands), name)
            for name in entry.COMMANDS}  # fmt: skip
OTHERWISE = {
    ("raw", "--bands"): "how many there are, of a file that cannot say",
    ("amend", "--band"): "a band as everywhere, followed by the fields it gets",
    ("amend", "--unit"): "the unit that values have, not one to bring them to",
    ("amend", "--scale"): "a factor as everywhere, of values",
    ("demo", "--scale"): "how large the made-up scene is",
    ("scenes", "--from"): "the first date",
    ("slices", "--mode"): "how two slices are compared",
    ("probe", "--label"): "a label of a region, by its name",
}
"""Where a word is said of something else than in the other commands, and of what."""


def test_a_word_means_one_thing():
    meanings = {}
    for name, command in COMMANDS.items():
        for one in command.params:
            if isinstance(one, Grouped):
                word = max(one.opts, key=len)
                if (name, word) in OTHERWISE or word == "--output":
                    continue
                said = (tuple(one.opts), one.help, type(one.type).__name__, one.metavar,
                        one.is_flag)  # fmt: skip
                meanings.setdefault(word, {}).setdefault(said, []).append(name)
    assert {word: said for word, said in meanings.items() if len(said) > 1} == {}


def test_every_option_stands_under_a_heading_and_outputs_are_called_alike():
    for name, command in COMMANDS.items():
        options = [one for one in command.params if isinstance(one, Grouped)]
        assert {one.group for one in options} <= set(GROUPS), name
        words = {word for one in options for word in one.opts}
        assert words >= {"--json", "--quiet", "--debug"}, name
        writes = "--overwrite" in words and name not in ("demo", "probe", "raw")
        assert writes == ({"-o", "--output"} <= words), name
        assert ("--member" in words) == (
            name not in ("demo", "survey", "raw", "amend", "scenes")
        ), name
        assert ("--out-dir" in words) == (
            name in ("render", "histogram", "export", "clip", "slices")), name  # fmt: skip


VALUES = {
    "member": "1", "spacing": "nominal", "damaged": "keep", "nodata": "0", "compute": "x=band(1)*2",
    "unit": "celsius", "nodata_when": "all", "look": "l.toml", "channels": "1", "limits": "minmax",
    "limits_from": "view", "limits_region": "1,1,5,5", "curve": "sqrt", "colormap": "kiln",
    "local_contrast": "2", "sharpen": "2,1", "brightness": "0.1", "contrast": "1.2",
    "saturation": "0.5", "nodata_color": "#ff0000", "resample": "nearest", "area": "1,1,6,6",
    "area_crs": "EPSG:32627", "row_range": "0,4", "column_range": "0,4", "center": "4,4",
    "pixel_size": "1", "out_dir": "d", "size": "64x64", "bit_depth": "16", "save_look": "s.toml",
    "legend": "g.png", "bar": "right", "caption": "x",
    "with_look": "l.toml", "vary": "curve=sqrt", "mode": "swipe",
    "opacity": "0.5", "blend": "multiply", "name": "x", "layers": "l.layers.toml",
    "relief": "one.tif", "sun": "300,40", "outline": "s.geojson", "outline_crs": "EPSG:32627",
    "layer": "x", "outline_color": "#00ff00", "outline_width": "1", "label": "name", "at": "4,4",
    "pixel_at": "1,1", "voxel_at": "1,1,1", "points": "p.csv", "points_crs": "EPSG:32627",
    "region": "v.nii", "profile": "p.png", "csv": "t.csv", "spectra": "k.toml",
    "keep_spectra": "n.toml", "format": "npy", "bands": "1", "type": "uint8", "rescale": "limits",
    "grid_of": "one.tif", "crs": "EPSG:32627", "within": "9", "where": "band(1) > 0",
    "mask": "one.tif", "compress": "none", "planes": "planar", "interleave": "bil",
    "quality": "80", "preview": "q.png", "shape": "s.geojson", "shape_crs": "EPSG:32627",
    "keep": "touching", "extent": "file", "soft": "1", "values": "1,2", "range": "1..9",
    "bits": "bit 0 = 1", "band": "1", "least_area": "1", "grow": "1", "mask_as": "band",
    "corners": "0,8,8,0", "bounds": "0,0,8,8", "leave_out": "a", "fit": "affine", "rule": "average",
    "width": "2", "balance": "gain", "reference": "1", "stacking": "argument", "align": "shift",
    "trim": "1", "engine": "threads", "plane": "axial", "index": "1", "montage": "2",
    "sequence": "2", "animated": "2", "frames": "numbered", "span": "0..4", "beside": "v.nii",
    "slab": "2", "project": "mean", "side": "neurological", "axes": "own", "map": "v.nii",
    "labels": "v.nii", "measure": "1", "threshold": "band(1) > 3", "p": "0.5", "fdr": "0.5",
    "statistic": "z", "statistic_frame": "1", "dof": "9", "one_sided": "above", "least": "2",
    "neighbours": "6", "faded": "0.3", "map_limits": "0,9", "map_colormap": "kiln", "frame": "1",
    "choose": "sform", "align_to": "v.nii", "apart": "9", "survivors": "f.png",
    "over_frames": "mean", "map_opacity": "value", "show_labels": "1", "normal": "0,1,1",
    "up": "0,0,1", "through": "1,1,1",
    "pace": "50", "title": "x", "scheme": "geographic", "zooms": "3,4", "attribution": "x",
    "rows": "8", "columns": "8", "order": "big", "header": "0", "names": "a,b,c",
    "roles": "blue,green,red", "wavelengths": "1,2,3", "scale": "0.1", "offset": "1", "notes": "x",
    "corner": "0,8", "set_metadata": "title=x", "from_notes": "n.txt", "zones": "s.geojson",
    "line": ("1,1", "4,4"), "angle": ("1,1", "4,4", "5,1"),
    "ellipse": "4,4,2,2", "rectangle": "1,1,3,3",
    "limits_like": "one.tif", "limits_without": "one.tif", "classes": "1,2",
}  # fmt: skip
PATHS = [
    "render three.tif -o o.png", "render one.tif --out-dir o",
    "render three.tif --area 1,1,6,6 -o o.png",
    "compare one.tif three.tif -o o.png --size 320x240", "histogram three.tif --json",
    "histogram v.nii --json", "overlay three.tif one.tif -o o.png",
    "overlay --layers l.layers.toml -o o.png", "overlay one.tif --outline s.geojson -o o.png",
    "page one.tif -o o.html --size 16x16", "page one.tif -o o.kml --size 16x16",
    "page --layers l.layers.toml -o o.html", "tiles one.tif -o o --zooms 2,2",
    "probe three.tif --at 3,3", "probe v.nii --at 3,3,3", "probe three.tif --points p.csv",
    "probe three.tif --points s.geojson", "probe three.tif --at 3,3 --profile o.png",
    "probe v.nii --region v.nii", "export three.tif -o o.tif",
    "export three.tif -o o.jpg --type uint8 --rescale limits", "export one.tif --out-dir o",
    "export v.nii -o o.nii", "export one.tif -o o.raw", "export one.tif -o o.gpkg",
    "export one.tif -o o.tif --crs EPSG:32627 --pixel-size 2",
    "clip three.tif -o o.tif --row-range 0,4", "clip three.tif -o o.tif --shape s.geojson",
    "clip one.tif -o o.tif --range 1..9", "clip one.tif -o o.tif --where 'band(1) > 3'",
    "clip one.tif -o o.tif --shape three.tif", "clip three.tif -o o.tif --mask one.tif",
    "place bare.tif -o o.tif --bounds 0,0,8,8", "place bare.tif -o o.tif --points tie.csv",

    "mosaic one.tif two.tif -o o.tif", "mosaic one.tif two.tif -o o.tif --grid-of one.tif",
    "slices v.nii -o o.png --size 96x64", "slices v.nii -o o.png --size 96x64 --plane axial",
    "slices v.nii -o o.png --size 96x64 --montage 2",
    "slices v.nii -o o.png --size 96x64 --plane axial --frames animated",
    "slices v.nii -o o.png --size 96x64 --map v.nii",
    "slices v.nii -o o.png --size 96x64 --labels v.nii",
    "slices v.nii -o o.png --size 96x64 --animated 2",
    "slices v.nii -o o.png --size 96x64 --plane axial --beside v.nii", "describe three.tif",
    "describe v.nii", "describe three.tif --members", "survey empty",
    "raw bare.bin --rows 8 --columns 8", "raw bare.bin --guess",
    "raw bare.bin --guess --rows 8 --columns 8", "amend one.tif --notes y",
    "amend one.tif --undo", "amend one.tif --inside --notes z",
]  # fmt: skip


SLOW, LOOKED_AT = ("compare", "tiles", "page", "overlay", "slices"), ("limits", "colormap")
"""A look's options are read by one function, which render and histogram walk through."""


@pytest.fixture(scope="module")
def workshop(tmp_path_factory):
    """A folder with a small file of each kind."""
    folder = tmp_path_factory.mktemp("workshop")
    grid = sp.Grid.from_corner((8, 8), x=0, y=8, pixel_size=1, crs="EPSG:32627")
    numbers = np.arange(1, 65, dtype="u2").reshape(1, 8, 8)
    for name, count in (("one", 1), ("two", 1), ("three", 3), ("bare", 1)):
        values = np.concatenate([numbers + k for k in range(count)])
        bands = [sp.Band(f"b{k}", unit="K") for k in range(count)]
        sp.from_array(values, grid=None if name == "bare" else grid, bands=bands).save(
            folder / f"{name}.tif")  # fmt: skip
    sp.volume_from_array(np.arange(216, dtype="i2").reshape(6, 6, 6), affine=np.eye(4)).save(
        folder / "v.nii")  # fmt: skip
    (folder / "bare.bin").write_bytes(bytes(range(64)))
    (folder / "empty").mkdir()
    sp.Look(curve="linear").save(folder / "l.toml")
    (folder / "l.layers.toml").write_text('[[layer]]\nfile = "one.tif"\n')
    (folder / "p.csv").write_text("name,row,column\na,1,1\nb,2,2\n")
    (folder / "tie.csv").write_text(
        "name,row,column,x,y\na,0,0,0,8\nb,0,8,8,8\nc,8,0,0,0\nd,8,8,8,0\ne,4,4,4,4\n")  # fmt: skip
    ring = [[1, 1], [6, 1], [6, 6], [1, 6], [1, 1]]
    (folder / "s.geojson").write_text(json.dumps({
        "type": "FeatureCollection", "crs": {"type": "name", "properties": {"name": "EPSG:32627"}},
        "features": [{"type": "Feature", "properties": {"name": "a"},
                      "geometry": {"type": "Polygon", "coordinates": [ring]}}]}))  # fmt: skip
    return folder


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("path", PATHS)
def test_an_option_is_read_or_refused(path, workshop, run, monkeypatch):
    monkeypatch.chdir(workshop)
    name, *given = shlex.split(path)
    said = {word.split("=")[0] for word in given}
    for one in COMMANDS[name].params:
        if name in SLOW and getattr(one, "group", "") == "Look" and one.name not in LOOKED_AT:
            continue
        if not isinstance(one, Grouped) or {*one.opts} & {*said, "--output", "--debug", "--json"}:
            continue
        value = [] if one.is_flag else VALUES[one.name]
        more = [one.opts[-1], *([value] if isinstance(value, str) else value)]
        over = [] if name in ("amend", "survey", "describe", "probe") else ["--overwrite"]
        status, _, err = run(name, *given, *more, *(over if one.name != "overwrite" else []))
        assert "what was made is as without it" not in err, more
        assert "unexpected" not in err, (more, err)
        assert status in (0, 1, 2), more


ANSWERS = [
    "survey .", "describe one.tif v.nii --statistics --metadata", "describe one.tif --members",
    "raw bare.bin --rows 8 --columns 8", "raw bare.bin --guess --preview q.png --overwrite",
    "amend two.tif --notes y", "amend two.tif --undo", "render one.tif -o o.png --overwrite",
    "render --colormap list -o maps.png --overwrite",
    "compare one.tif three.tif -o o.png --size 320x240 --overwrite",
    "histogram one.tif --json", "probe one.tif --at 3,3 --csv t.csv --overwrite",
    "probe v.nii --at 3,3,3", "export one.tif -o o.tif --overwrite",
    "export v.nii -o o.nii.gz --overwrite", "export one.tif -o o.geojson --classes 1,2 --overwrite",
    "export one.tif -o o.zarr --overwrite",
    "place bare.tif -o o.tif --bounds 0,0,8,8 --overwrite",
    "place bare.tif -o o.kmz --bounds 0,0,8,8 --crs EPSG:4326 --overwrite",
    "clip one.tif -o o.tif --range 1..9 --overwrite",
    "mosaic one.tif two.tif -o o.tif --csv t.csv --overwrite",
    "overlay one.tif --outline s.geojson -o o.png --overwrite",
    "slices v.nii -o o.png --size 96x64 --overwrite", "page one.tif -o o.html --overwrite",
    "tiles one.tif -o tiles --zooms 3,4 --overwrite", "demo little --scale 0.05 --data-only",
]  # fmt: skip


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("line", ANSWERS)
def test_an_answer_is_one_document_that_tells_what_was_written(line, workshop, run, monkeypatch):
    monkeypatch.chdir(workshop)
    status, out, err = run(*shlex.split(line), "--json")
    assert (status, err) == (0, "")
    found = json.loads(out)  # one document; it was checked against the schema when it was made
    assert list(found) == ["schema", "command", "results", "warnings"]
    name = "colormaps" if "list" in line else line.split()[0]
    assert (found["schema"], found["command"]) == (1, name)
    assert found["results"]
    words = line.split()
    targets = [words[k + 1] for k, one in enumerate(words) if one in ("-o", "--csv", "--preview")]
    told = {one["output"]: one for one in found["results"] if one.get("output")}
    for target in targets:
        size = told[target]["bytes"]
        assert size == os.path.getsize(target) or (os.path.isdir(target) and size > 0)
    shape = next((one["shape"] for one in told.values() if one.get("shape")), None)
    assert shape is None or shape == list(sp.open(targets[0]).shape)


@pytest.mark.filterwarnings("ignore")
def test_failures_stand_in_the_document_too(workshop, run, monkeypatch):
    monkeypatch.chdir(workshop)
    status, out, err = run("describe", "one.tif", "none.tif", "--json")
    found = json.loads(out)["results"]
    assert (status, err.count("error:"), len(found)) == (1, 1, 2)
    assert found[1] == {"input": "none.tif", "error": err.removeprefix("error: ").strip()}
    status, out, err = run("render", "none.tif", "-o", "x.png", "--json")
    assert (status, json.loads(out)["results"][0]["error"] in err) == (1, True)
    assert run("render", "one.tif", "--json")[:2] == (2, "")  # wrong usage: nothing was begun


def test_the_published_schema_is_what_answers_are_checked_against():
    from pathlib import Path

    published = Path(__file__).parents[2] / "docs/answers.schema.json"
    assert json.loads(published.read_text(encoding="utf-8")) == json_schema()
    assert set(RESULTS) == {*entry.COMMANDS, "colormaps"}


@pytest.mark.parametrize(
    ("line", "word", "found"),
    [
        ("render a.tif --colormap", "ki", {"kiln"}),
        ("render a.tif --limits", "per", {"percentile:"}),
        ("compare a.tif --curve", "s", {"sqrt", "square"}),
        ("export a.tif --type", "uint1", {"uint16"}),
        ("render a.tif --channels", "", {"natural", "infrared", "shortwave"}),
        ("mosaic a.tif --rule", "fe", {"feather"}),
        ("", "rend", {"render"}),
    ],
)
def test_a_shell_completes_values(line, word, found, monkeypatch, run):
    monkeypatch.setenv("_SPECTRANE_COMPLETE", "bash_complete")
    words = ["spectrane", *line.split(), word]
    monkeypatch.setenv("COMP_WORDS", " ".join(words))
    monkeypatch.setenv("COMP_CWORD", str(len(words) - 1))
    _, out, _ = run()
    assert {one.partition(",")[2] for one in out.split()} == found


def test_colour_maps_are_listed_with_what_each_is_made_for(run, tmp_path):
    from spectrane.model.purposes import PURPOSES

    status, out, _ = run("slices", "--colormap", "list", "-o", tmp_path / "maps.png")
    assert (status, set(PURPOSES)) == (0, set(sp.colormaps))
    for name, purpose in PURPOSES.items():
        assert f"{name} " in out
        assert purpose in out
    with Image.open(tmp_path / "maps.png") as picture:
        assert picture.size == (1280, 800)


def test_export_tells_the_formats_there_are(run):
    from spectrane.formats.table import formats

    out = run("export", "--help")[1].partition("written as")[2]
    for one in formats():
        assert f"\n{one.name} " in out
        assert all(ending in out for ending in one.endings)
