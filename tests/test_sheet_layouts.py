"""Any sheet keeps its promises: all on paper, nothing over anything, scales exact; and the command
makes sheets of maps that share limits, of slices with a map, and dry runs.
"""

from __future__ import annotations

import json

import numpy as np
import pytest
from click.testing import CliRunner
from matplotlib.patches import PathPatch
from matplotlib.path import Path

import spectrane as sp
from spectrane.cli.entry import commands
from spectrane.display.sheet_settings import CORNERS, ELEMENTS, PAPERS, SheetSettings, paper_size
from spectrane.figures.sheets.pen import Box, Pen
from spectrane.figures.sheets.placing import Placed, check_apart, in_band, in_column, reach_down
from spectrane.figures.sheets.sheet import drawn_sheet
from spectrane.model.errors import LookError, SpectraneError

SHEETS = 14


class Block:
    """An element of a size."""

    def __init__(self, name, width, height):
        self.name, self.sides = name, (width, height)

    def size(self, pen, width):
        return min(width, self.sides[0]), self.sides[1]

    def draw(self, pen, box):
        raise AssertionError("only set out")


@pytest.fixture
def pen():
    return Pen(sp.figures.sheet([sp.from_array(np.eye(3))]))


@pytest.fixture
def sea(utm):
    numbers = np.linspace(0, 20, 6300).reshape(70, 90).astype("f4")
    return sp.from_array(numbers, grid=utm, bands=[sp.Band("depth", unit="m")])


def polygon(rings):
    shift = [[[480000 + 10 * x, 7360000 - 10 * y] for x, y in ring] for ring in rings]
    return {"type": "Polygon", "coordinates": shift}


def settings_of(rng):
    """Return settings of a sheet drawn by lot."""
    put = {name: str(rng.choice(["side", "none", *CORNERS]))
           for name in ELEMENTS if rng.random() < 0.4}  # fmt: skip
    return SheetSettings(
        title="Words " * int(rng.integers(0, 30)), subtitle="More " * int(rng.integers(0, 9)),
        notes="note " * int(rng.integers(0, 120)), paper=str(rng.choice([*PAPERS])),
        orientation=str(rng.choice(["auto", "portrait", "landscape"])), put=put,
        margin=float(rng.integers(0, 30)), scale=float(rng.choice([2000, 7500, 25000])),
        coordinates=str(rng.choice(["map", "degrees", "none"])), separate=bool(rng.random() < 0.3),
        lines=bool(rng.random() < 0.3), dots=40,
    )  # fmt: skip


@pytest.mark.filterwarnings("ignore:the sheet shows")
@pytest.mark.parametrize("seed", range(SHEETS))
def test_any_sheet_is_sound(sea, seed):
    settings = settings_of(np.random.default_rng(seed))
    line = sp.Outline(polygon([[(5, 5), (40, 9), (30, 50), (5, 5)]]), crs=32727, name="field")
    try:
        drawn = drawn_sheet([sea, sea] if settings.separate else [sea, line], settings)
    except SpectraneError as error:
        assert "paper" in str(error) or "put" in str(error)
        return
    wide, high = (side * 25.4 for side in drawn.figure.get_size_inches())
    assert sorted((wide, high)) == pytest.approx(sorted(paper_size(settings.paper)))
    page = Box(0, 0, wide, high)
    frames = [frame.box for frame in drawn.frames]
    boxes = [box for _, box in drawn.elements]
    assert all(page.holds(box) for box in (*frames, *boxes))
    everything = [*boxes, *(frames if not settings.put else [])]
    assert not any(a.meets(b) for k, a in enumerate(everything) for b in everything[k + 1 :])
    for frame in drawn.frames:
        x_min, _, x_max, _ = frame.extent.bounds
        assert frame.box.width == pytest.approx((x_max - x_min) * 1000 / settings.scale)


def test_elements_flow(pen):
    blocks = [Block("legend", 40, 30), Block("notes", 30, 10), Block("scale", 50, 20)]
    column = in_column(pen, blocks, Box(10, 10, 45, 80))
    assert [one.box.top for one in column] == [10, 44, 58]
    assert column[2].box.width == 45
    with pytest.raises(LookError, match="need 68 mm.*has 60"):
        in_column(pen, blocks, Box(10, 10, 45, 60))
    band = in_band(pen, blocks, Box(10, 100, 130, 0))
    assert band[0].box.left == 10
    assert reach_down(band, 100) < 68
    assert reach_down([], 100) == 0
    with pytest.raises(LookError, match="put legend.*over notes"):
        check_apart([Placed(blocks[0], Box(0, 0, 9, 9)), Placed(blocks[1], Box(8, 8, 9, 9))], [])


def test_outlines_are_lines_with_open_holes(sea):
    ring = [(10, 10), (60, 10), (60, 50), (10, 50), (10, 10)]
    hole = [(20, 20), (30, 20), (30, 30), (20, 30), (20, 20)]
    shape = sp.Outline(polygon([ring, hole]), "#00ff00", fill="#0000ff", crs=32727, name="field")
    figure = sp.figures.sheet([sea, shape], dots=100)
    found = [
        patch for axes in figure.axes for patch in axes.patches if isinstance(patch, PathPatch)
    ]
    assert len(found) == 1
    codes = found[0].get_path().codes.tolist()
    assert codes.count(Path.MOVETO) == codes.count(Path.CLOSEPOLY) == 2
    below = sp.figures.sheet([sea, shape, (sea, sp.Look(colormap="kiln"))], dots=100)
    assert not any(axes.patches for axes in below.axes)  # what lies under a raster is a picture


def test_what_is_written_at_an_edge_stays_on_the_map(sea):
    text = "a long name at the edge"
    shape = {"type": "Feature", "properties": {"name": text},
             "geometry": {"type": "Point", "coordinates": [480895, 7359500]}}  # fmt: skip
    figure = sp.figures.sheet([sea, sp.Outline(shape, crs=32727, label="name")], dots=100)
    renderer = figure.canvas.get_renderer()
    axes, written = next((axes, one) for axes in figure.axes for one in axes.texts)
    assert written.get_window_extent(renderer).x1 <= axes.get_window_extent(renderer).x1 + 1


def run(*words):
    done = CliRunner().invoke(commands, [str(word) for word in words])
    assert done.exit_code == 0, (done.output, done.exception)
    return done.output


def test_maps_that_share_scenes_have_one_legend(sea, tmp_path):
    sea.save(tmp_path / "a.tif")
    sea.compute({"depth": "depth * 2"}, unit="m").save(tmp_path / "b.tif")
    both = ("sheet", tmp_path / "a.tif", tmp_path / "b.tif", "--separate", "-o", tmp_path / "x.svg",
            "--overwrite")  # fmt: skip
    counts = []
    for words in ((), ("--shared-scenes",)):
        run(*both, *words)
        counts.append((tmp_path / "x.svg").read_text().count(">depth (m)<"))
    assert counts == [2, 1]


def test_a_sheet_of_slices_with_a_map(tmp_path):
    ball = np.hypot.outer(np.hypot.outer(*[np.linspace(-1, 1, 20)] * 2), np.linspace(-1, 1, 20))
    for name, numbers in (("a", 1 - ball), ("b", ball * 9)):
        sp.volume_from_array(numbers, affine=np.eye(4)).save(tmp_path / f"{name}.nii")
    facts = json.loads(run(
        "sheet", tmp_path / "a.nii", "-o", tmp_path / "s.svg", "--map", tmp_path / "b.nii",
        "--montage", "4", "--plane", "coronal", "--title", "Ball", "--scale", "1:1", "--span",
        "4..16", "--json",
    ))["results"][0]  # fmt: skip
    assert (facts["scale"], len(facts["maps"])) == (1.0, 4)
    text = (tmp_path / "s.svg").read_text()
    assert all(f">{word}</text>" in text for word in ("Ball", "R", "L", "S", "I", "1:1"))


def test_a_dry_run_of_a_sheet_writes_nothing(sea, tmp_path):
    sea.save(tmp_path / "a.tif")
    said = run("sheet", tmp_path / "a.tif", "-o", tmp_path / "x.pdf", "--dry-run", "--keep-as",
               tmp_path / "k.toml")  # fmt: skip
    assert "nothing is written" in said
    assert sorted(path.name for path in tmp_path.iterdir()) == ["a.tif"]
