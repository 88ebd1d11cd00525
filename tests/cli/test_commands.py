"""The commands, as a person runs them: what they print, write, and how they fail."""

from __future__ import annotations

import json
import os
import signal
import stat
import subprocess
import sys
import time

import numpy as np
import pytest
from PIL import Image

from spectrane.cli import entry


def test_help_lists_the_commands_in_the_order_of_the_work(run):
    status, out, _ = run("--help")
    assert status == 0
    places = [out.index(f"  {name}") for name in entry.COMMANDS]
    assert places == sorted(places)


@pytest.mark.parametrize("name", entry.COMMANDS)
def test_every_command_has_two_examples(run, name):
    status, out, _ = run(name, "--help")
    assert status == 0
    assert out[out.index("Examples:") :].count("spectrane ") >= 2


def test_describe(run, demo):
    status, out, err = run("describe", demo / "sound_8band.tif")
    assert (status, err) == (0, "")
    for part in ("375 columns x 275 rows", "EPSG:32727", "swir22", "DEFLATE"):
        assert part in out
    status, out, _ = run("describe", demo / "sound_8band.tif", "--statistics", "--json")
    facts = json.loads(out)["results"][0]
    assert facts["bands"][0]["role"] == "blue"
    assert facts["statistics"][0]["min"] == 0  # the edge that no tag calls no-data
    assert [one["code"] for one in facts["warnings"]] == ["order", "fill"]
    assert facts["cure"].endswith("sound_8band.tif --channels natural --nodata 0")
    assert facts["warnings"][1]["fix"].endswith("sound_8band.tif --nodata 0")
    status, out, _ = run("describe", demo / "habitats.tif", "--metadata")
    assert "salt-marsh" in out
    assert "GeoKeys" in out


def test_render_of_the_demo(run, demo, tmp_path):
    target = tmp_path / "a.png"
    status, out, err = run(
        "render", demo / "sound_8band.tif", "-o", target, "--channels", "infrared", "--nodata", "0",
        "--limits", "percentile:2,98", "--size", "320x200",
    )  # fmt: skip
    assert (status, err) == (0, "")
    assert "red   = B5" in out
    with Image.open(target) as picture:
        assert picture.size == (273, 200)
        pixels = np.asarray(picture)
    assert (pixels[100, 0] == 0).all()  # the swath's edge
    assert 60 < pixels[pixels[..., 3] > 0][:, :3].mean() < 190


def test_render_options_reach_the_look(run, demo, tmp_path):
    status, out, _ = run(
        "render", demo / "sound_8band.tif", "-o", tmp_path / "a.png", "--json",
        "--channels", "5,3,2", "--limits", "0,0.4", "--limits", "0.02,0.3", "--limits", "minmax",
        "--invert",
        "--area", "490000,7355000,495000,7358000", "--bit-depth", "16",
        "--nodata", "0,60000..65535",
    )  # fmt: skip
    facts = json.loads(out)["results"][0]
    assert status == 0
    assert [scale["limits"] for scale in facts["scales"]] == [
        "fixed:0,0.4",
        "fixed:0.02,0.3",
        "minmax",
    ]
    assert facts["scales"][0]["invert"]
    assert (facts["rows"], facts["columns"]) == (75, 125)
    assert (tmp_path / "a.png").read_bytes()[24] == 16


def test_many_files_and_one_that_fails(run, demo, tmp_path):
    broken = tmp_path / "broken.tif"
    broken.write_bytes(b"II*\0\xff\xff\xff\xff")
    files = (demo / "habitats.tif", broken, demo / "sound_8band.tif")
    status, _, err = run(
        "render", *files, "--out-dir", tmp_path / "out", "--limits", "minmax", "-q"
    )
    assert status == 1
    assert sorted(p.name for p in (tmp_path / "out").iterdir()) == [
        "habitats.png",
        "sound_8band.png",
    ]
    assert err.count("error:") == 1
    assert "broken.tif" in err


def failures(demo, tmp_path):
    scene = demo / "sound_8band.tif"
    cut = tmp_path / "cut.tif"
    cut.write_bytes(scene.read_bytes()[:70000])
    locked = tmp_path / "locked"
    locked.mkdir()
    (tmp_path / "there.png").write_bytes(b"mine")
    out = tmp_path / "a.png"
    return [
        (1, ("describe", tmp_path / "none.tif"), "no such file"),
        (1, ("describe", tmp_path), "is a folder that no known format"),
        (1, ("describe", demo.parent / "conftest"), "no such file"),
        (1, ("render", cut, "-o", out), "past the end of the file"),
        (1, ("render", scene, "-o", out, "--channels", "redd"), "did you mean 'red'"),
        (1, ("render", scene, "-o", out, "--channels", "0"), "bands are counted from 1"),
        (2, ("render", scene, "-o", out, "--channels", "1,2"), "expected 1 band"),
        (2, ("render", scene, "-o", out, "--limits", "percentile:98,2"), "0 <= low < high"),
        (2, ("render", scene, "-o", out, "--limits", "strong"), "expected one of auto"),
        (1, ("render", scene, "-o", out, "--area", "0,0,1,1"), "does not touch the raster"),
        (1, ("render", scene, "-o", tmp_path / "no" / "a.png"), "there is no folder"),
        (1, ("render", scene, "-o", tmp_path / "there.png"), "exists already"),
        (1, ("render", scene, "-o", tmp_path / "a.jpg"), "written as .png"),
        (1, ("demo", demo), "exists already"),
        (2, ("render", scene), "say where the output goes"),
        (2, ("render", scene, scene, "-o", out), "--out-dir"),
        (2, ("render", scene, scene, "--out-dir", tmp_path / "o"), "named twice"),
        (2, ("render", scene, "-o", out, "--size", "huge"), "not COLUMNSxROWS"),
        (2, ("render", scene, "-o", out, "--area", "1,2,3"), "4 numbers"),
        (2, ("render", scene, "-o", out, "--nodata", "dark"), "ranges"),
        (2, ("render", "-o", out), "Missing argument"),
        (2, ("rendr", scene), "Did you mean 'render'"),
        (2, ("xyz",), "There are demo, survey, describe"),
        (2, ("describe", scene, "--colour"), "No such option"),
    ]


def test_each_failure_is_one_clear_line(run, demo, tmp_path):
    for wanted, arguments, text in failures(demo, tmp_path):
        status, out, err = run(*arguments)
        assert (status, out) == (wanted, ""), arguments
        assert text in err, (arguments, err)
        assert "Traceback" not in err
        if wanted == 1:
            assert len(err.strip().splitlines()) == 1, err
    assert (tmp_path / "there.png").read_bytes() == b"mine"
    left = {p.name for p in tmp_path.iterdir()}
    assert left == {"cut.tif", "locked", "there.png"}  # nothing half-written


@pytest.mark.skipif(os.geteuid() == 0, reason="root may read anything")
def test_an_unreadable_file(run, tmp_path):
    path = tmp_path / "a.tif"
    path.write_bytes(b"II*\0")
    path.chmod(stat.S_IWUSR)
    status, _, err = run("describe", path)
    assert status == 1
    assert "Permission denied" in err


def test_debug_shows_where(demo, tmp_path):
    done = subprocess.run(
        [sys.executable, "-m", "spectrane.cli", "describe", str(tmp_path / "none.tif"), "--debug"],
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.returncode == 1
    assert "Traceback" in done.stderr


def test_warnings_are_single_lines(run, demo, tmp_path):
    status, _, err = run("render", demo / "sound_8band.tif", "-o", tmp_path / "a.png",
                         "--limits", "type")  # fmt: skip
    assert status == 0
    fill, black = err.splitlines()
    assert fill.startswith("warning: 6.9% of the pixels, from the edges inward, are exactly")
    assert "spectrane amend" in fill
    assert "--nodata 0" in fill
    assert black.startswith("warning: the picture is nearly black")


def test_an_interrupt_leaves_nothing_half_written(tmp_path):
    command = [sys.executable, "-m", "spectrane.cli", "demo", str(tmp_path / "d"), "--scale", "1"]
    process = subprocess.Popen(command, stderr=subprocess.PIPE, text=True)
    for _ in range(200):
        time.sleep(0.05)
        if (tmp_path / "d").exists():
            break
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert process.returncode == 130
    assert "interrupted" in err
    assert [p for p in (tmp_path / "d").iterdir() if "partial" in p.name] == []


def test_starting_up_imports_little(demo, tmp_path):
    heavy = {"numba", "pandas", "scipy", "matplotlib", "pyproj", "shapely", "pydantic", "fsspec",
             "dask", "tqdm", "logging", "PIL"}  # fmt: skip
    scene = str(demo / "sound_8band.tif")
    code = (
        "import sys, spectrane; assert 'numpy' not in sys.modules;"
        "import spectrane.cli.entry as entry\n"
        "try: entry.run(sys.argv[1:])\n"
        "except SystemExit as stop: assert not stop.code, stop.code\n"
        f"loaded = {heavy!r} & set(sys.modules); assert not loaded, loaded\n"
    )
    for arguments in (["--help"], ["render", scene, "-o", str(tmp_path / "a.png"), "-q"]):
        subprocess.run([sys.executable, "-c", code, *arguments], check=True, capture_output=True)


def test_systems_are_loaded_without_what_no_command_uses(demo):
    code = (
        "import sys\n"
        "from spectrane.cli import start\n"
        "sys.argv[1:] = ['describe', sys.argv[1]]\n"
        "try: start.main()\n"
        "except SystemExit as stop: assert not stop.code, stop.code\n"
        "import pyproj\n"
        "print({'http.client', 'importlib.metadata'} & set(sys.modules))\n"
        "try: pyproj.show_versions()\n"
        "except ImportError as error: print(error)\n"
    )
    command = [sys.executable, "-c", code, str(demo / "sound_8band.tif")]
    told = subprocess.run(command, check=True, capture_output=True, text=True).stdout.splitlines()
    said = "pyproj._show_versions.show_versions is left out of commands, to start sooner"
    assert told[-2:] == ["set()", said]


def test_loops_are_loaded_without_what_they_do_not_use(tmp_path):
    """In the command's own process alone: whoever compiles loops beside ours misses nothing."""
    code = (
        "import sys\n"
        "from spectrane.kernels import choice\n"
        "choice.process_is_ours = sys.argv[1] == 'ours'\n"
        "import numpy as np\n"
        "from spectrane.kernels.prediction_loops import undo_differences\n"
        "block, out = np.ones((2, 3, 1), np.uint16), np.zeros((1, 2, 3), np.uint16)\n"
        "undo_differences(block, (slice(0, 2), slice(0, 3)), [0], out)\n"
        "assert out[0].tolist() == [[1, 2, 3]] * 2\n"
        "print('scipy.linalg' in sys.modules)\n"
    )
    found = [subprocess.run([sys.executable, "-c", code, whose], check=True, capture_output=True,
                            text=True).stdout.strip() for whose in ("ours", "shared")]  # fmt: skip
    assert found == ["False", "True"]
