"""Finished sheets: measured in millimetres in what is written, their words read back."""

from __future__ import annotations

import json
import re
import zlib

import numpy as np
import pytest
from click.testing import CliRunner

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.display.sheet_settings import SheetSettings
from spectrane.figures.paper import save_figure
from spectrane.figures.sheets.sheet import drawn_sheet
from spectrane.model.errors import GridMismatch, LookError

FIELD = {"type": "Polygon", "coordinates": [[[480100, 7359500], [480500, 7359500],
         [480500, 7359800], [480100, 7359500]]]}  # fmt: skip
POINT = 72 / 25.4


@pytest.fixture
def sea(utm, rng):
    return sp.from_array(rng.normal(10, 3, (70, 90)).astype("f4"), grid=utm,
                         bands=[sp.Band("depth", unit="m")])  # fmt: skip


@pytest.fixture
def field():
    return sp.Outline(FIELD, "#ff0000", crs=32727, name="field")


def words(figure):
    return [text.get_text() for text in figure.texts]


def streams(path):
    """Return the drawing commands of a PDF."""
    found = b""
    for part in re.findall(rb"stream\r?\n(.*?)endstream", path.read_bytes(), re.S):
        try:
            found += zlib.decompress(part)
        except zlib.error:
            continue
    return found.replace(b"\n", b" ").decode("latin-1")


@pytest.mark.parametrize(("scale", "paper"), [("1:10000", "A4"), ("1:7 500", "A4"), (5000, "A3")])
def test_a_millimetre_of_the_pdf_is_one(sea, tmp_path, scale, paper):
    figure = sp.figures.sheet([sea], title="Sea", scale=scale, paper=paper)
    save_figure(figure, tmp_path / "a.pdf")
    number = float(str(scale).replace("1:", "").replace(" ", ""))
    wide, high = (length / number * 1000 * POINT for length in (900, 700))
    pictures = re.findall(
        r"([\d.]+) 0 0 -([\d.]+) 0 [\d.]+ cm /I\d+ Do", streams(tmp_path / "a.pdf")
    )
    assert (wide, high) in [pytest.approx(tuple(map(float, one)), abs=0.01) for one in pictures]


def test_the_svg_holds_texts_as_they_are_and_lines_as_lines(sea, field, tmp_path):
    figure = sp.figures.sheet([sea, field], title="Cost $5 & $x^2$", notes="<b>bold</b>")
    save_figure(figure, tmp_path / "a.svg")
    text = (tmp_path / "a.svg").read_text()
    assert ">Cost $5 &amp; $x^2$</text>" in text
    assert "&lt;b&gt;bold&lt;/b&gt;" in text
    assert re.search(r"stroke: #ff0000", text)


@pytest.mark.parametrize(
    ("crs", "y", "stretch"), [("EPSG:3857", 8400000, 2.0), ("EPSG:32727", 7e6, 1.0)]
)
def test_the_bar_is_true_at_the_maps_middle(crs, y, stretch):
    grid = sp.Grid.from_corner((100, 100), x=500000, y=y, pixel_size=20, crs=crs)
    drawn = drawn_sheet([sp.from_array(np.ones((100, 100), "u1"), grid=grid)], SheetSettings())
    box = drawn.frames[0].box
    assert 2000 / stretch / (box.width / 1000) == pytest.approx(drawn.frames[0].scale, rel=6e-3)
    assert any("true on the ground" in note for note in drawn.notes) == (stretch > 1)


def test_north_is_told_where_it_is_not_up(utm):
    far = sp.Grid.from_corner((70, 90), x=800000, y=7360000, pixel_size=10, crs="EPSG:32727")
    for grid, told in ((utm, False), (far, True)):
        figure = sp.figures.sheet([sp.from_array(np.ones((70, 90), "u1"), grid=grid)])
        assert (
            any("true north lies 1.2" in text for text in " ".join(words(figure)).split("|"))
            == told
        )


def test_the_legend_tells_what_is_shown(utm, sea, field):
    classes = np.ones((70, 90), "u1")
    classes[:5] = 4
    look = sp.Look(classes={1: ("#112233", "mud"), 4: ("#445566", "reed"), 9: ("#778899", "moor")})
    said = words(
        sp.figures.sheet(
            [sp.from_array(classes, grid=utm), field],
        )
    )
    assert "mud" not in said
    said = words(sp.figures.sheet([(sp.from_array(classes, grid=utm), look), field]))
    assert {"mud", "reed", "field"} <= set(said)
    assert "moor" not in said
    for given in ([sea], sea, (sea, sp.Look(colormap="kiln")), sp.Layer(sea)):
        assert "depth (m)" in words(sp.figures.sheet(given))


def test_maps_that_share_limits_share_a_legend(sea):
    look = sp.Look(limits=(0, 20))
    for others, count in ((look, 1), (sp.Look(limits=(0, 30)), 2)):
        figure = sp.figures.sheet([(sea, look), (sea, others)], separate=True)
        assert words(figure).count("depth (m)") == count
    four = drawn_sheet([sea] * 4, SheetSettings(separate=True, across=2))
    lefts, tops = (
        {round(getattr(one.box, side), 3) for one in four.frames} for side in ("left", "top")
    )
    assert (len(lefts), len(tops)) == (2, 2)


def test_nothing_lies_over_anything(sea, field):
    corner = {"north": "top-left", "legend": "top-left", "scale": "20,180"}
    for settings in (SheetSettings(title="A title " * 20, notes="word " * 60),
                     SheetSettings(put=corner),
                     SheetSettings(orientation="portrait", coordinates="degrees")):  # fmt: skip
        drawn = drawn_sheet([sea, field], settings)
        boxes = [box for _, box in drawn.elements]
        assert not any(one.meets(two) for k, one in enumerate(boxes) for two in boxes[k + 1 :])


@pytest.mark.parametrize(
    ("given", "said"),
    [
        ({"scale": "1:100"}, None),
        ({"scale": "1:100", "area": (480000, 7359300, 480900, 7360000)}, "needs 9000 x 7000 mm"),
        ({"put": {"north": "100,100", "legend": "101,101"}}, "lies over"),
        ({"put": {"nort": "side"}}, "'nort'"),
        ({"put": {"north": "15,60"}}, "over the coordinates"),
        ({"put": {"north": "295,5"}}, "over the sheet"),
        ({"paper": "A9"}, "WIDTHxHEIGHT"),
        ({"notes": "word " * 4000}, "larger paper"),
        ({"center": (480000, 7360000)}, "needs a scale"),
        ({"area": (0, 0, 1, 1)}, "does not touch"),
        ({"scale": "one"}, "1:25000"),
    ],
)
def test_what_has_no_room_is_said(sea, given, said):
    if said is None:
        with pytest.warns(sp.DataWarning, match=r"shows .*% of the map, around its middle: 1:100"):
            assert drawn_sheet([sea], SheetSettings(**given)).frames[0].scale == 100
        return
    with pytest.raises((LookError, GridMismatch), match=said):
        sp.figures.sheet([sea], **given)


def test_a_picture_without_a_unit_has_no_scale():
    bare = sp.from_array(np.eye(9))
    assert any("No scale" in text for text in words(sp.figures.sheet([bare])))
    for given in ({"scale": 100}, {"put": {"scale": "side"}}):
        with pytest.raises(GridMismatch, match="no unit"):
            sp.figures.sheet([bare], **given)


def run(*words):
    done = CliRunner().invoke(commands, [str(word) for word in words])
    assert done.exit_code == 0, (done.output, done.exception)
    return done.output


def test_a_sheet_is_kept_and_drawn_again(sea, tmp_path):
    (tmp_path / "data").mkdir()
    sea.save(tmp_path / "data" / "sea.tif")
    (tmp_path / "field.geojson").write_text(json.dumps(FIELD))
    kept = tmp_path / "a.layers.toml"
    first = json.loads(run(
        "sheet", tmp_path / "data" / "sea.tif", "-o", tmp_path / "a.png", "--limits", "fixed:0,20",
        "--compute", "deep=depth*2", "--outline", tmp_path / "field.geojson", "--outline-crs",
        "EPSG:32727", "--area", "480050,7359350,480700,7359900", "--title", "Deep", "--put",
        "north=top-right", "--scale", "1:10000", "--keep-as", kept, "--json"))  # fmt: skip
    first = first["results"][0]
    assert 'file = "data/sea.tif"' in kept.read_text()
    again = json.loads(run("sheet", "--layers", kept, "-o", tmp_path / "b.png", "--json"))
    same = ("scale", "bounds", "maps", "elements", "notes")
    assert {key: first[key] for key in same} == {key: again["results"][0][key] for key in same}
    assert (tmp_path / "a.png").read_bytes() == (tmp_path / "b.png").read_bytes()
    assert first["bounds"] == pytest.approx([480050, 7359350, 480700, 7359900])


def test_slices_have_letters_captions_and_true_size(tmp_path):
    from spectrane.figures.sheets.slices import Cuts, drawn_slice_sheet

    ball = np.hypot.outer(np.hypot.outer(*[np.linspace(-1, 1, 40)] * 2), np.linspace(-1, 1, 40))
    volume = sp.volume_from_array(1 - ball, affine=np.eye(4))
    drawn = drawn_slice_sheet(volume, Cuts(count=4, span=(4, 36)), SheetSettings(scale="1:1"))
    assert [round(one.box.width) for one in drawn.frames] == [40] * 4
    said = words(drawn.figure)
    assert {"R", "L", "A", "P", "1:1", "32.0 mm"} <= set(said)
    with pytest.raises(LookError, match="fewer slices"):
        sp.figures.slice_sheet(volume, count=40, span=(4, 36), scale="3:1")
