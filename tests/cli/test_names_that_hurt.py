"""Names of files that are no words: none steers the terminal, blocks, or ends in a traceback."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys

import numpy as np
import pytest

import spectrane as sp

NAMES = {"escape": "a\x1b[2Jb", "newline": "two\nlines", "not UTF-8": os.fsdecode(b"bad\xff"),
         "markup": "[red]x[-y]", "C1": "c\x9b31m"}  # fmt: skip
LINES = [
    "describe {f}", "describe {f} --members", "survey .", "histogram {f} -o {n}.png --overwrite",
    "render {f} -o {n}.png --overwrite --legend {n}-l.png --save-look {n}.toml",
    "compare {f} {f} -o {n}.png --overwrite", "probe {f} --pixel-at 1,1 --csv {n}.csv --overwrite",
    "clip {f} -o {n}-c.tif --overwrite", "place {f} -o {n}-p.tif --bounds 0,0,9,9 --overwrite",
    "mosaic {f} {f} -o {n}-m.tif --overwrite", "overlay {f} -o {n}.png --overwrite",
    "page {f} -o {n}.html --overwrite", "amend {f} --notes x", "amend {f} --undo",
    "tiles {f} -o {n}-tiles --zooms 2,2 --overwrite", "render {f} -o {n}.gif",
    "raw {n}.bin --rows 3 --columns 3", "render {n}-none.tif -o x.png",
    *(f"export {{f}} -o {{n}}-e.{ending} --overwrite"
      for ending in ("tif", "png", "nc", "zarr", "fits", "npy", "raw")),
]  # fmt: skip


@pytest.mark.filterwarnings("ignore")
@pytest.mark.parametrize("kind", NAMES)
def test_no_name_steers_the_terminal(kind, tmp_path, run, monkeypatch):
    name = NAMES[kind]
    monkeypatch.chdir(tmp_path)
    grid = sp.Grid.from_corner((9, 9), x=10, y=9, pixel_size=1, crs="EPSG:4326")
    values = np.arange(81, dtype="u1").reshape(9, 9)
    sp.from_array(values, grid=grid).save(f"{name}.tif")
    with open(f"{name}.bin", "wb") as file:
        file.write(bytes(9))
    some = LINES if kind in ("escape", "not UTF-8") else LINES[:6]
    for number, line in enumerate(some):
        words = [word.format(f=f"{name}.tif", n=name) for word in line.split()]
        for more in ([], ["--json"]) if number % 4 == 0 else ([],):
            status, out, err = run(*words, *more)
            fails = "gif" in line or "none" in line or ("undo" in line and more)
            assert status == (1 if fails else 0), err
            assert "unexpected" not in err, err
            text = json.dumps(json.loads(out)) if more else out
            for said in (text, err):
                raw = [ch for ch in said if not ch.isprintable() and ch != "\n"]
                assert raw == [], (line, raw)
            assert "two\nlines" not in out + err


def test_what_is_no_file_never_blocks(tmp_path, run, monkeypatch):
    monkeypatch.chdir(tmp_path)
    os.mkfifo(tmp_path / "pipe.tif")
    with socket.socket(socket.AF_UNIX) as listener:
        listener.bind(str(tmp_path / "socket.tif"))
        sp.from_array(np.ones((3, 3), "u1")).save(tmp_path / "a.tif")
        look = f"render a.tif -o x.png --look {tmp_path / 'pipe.tif'}"
        for line, said in (
            ("survey .", "1 raster"), ("describe pipe.tif", "is a pipe, not a file"),
            ("describe /dev/zero", "is a device, not a file"), (look, "is a pipe, not a file"),
            ("describe socket.tif", "socket.tif"), ("amend pipe.tif --nodata 0", "is a pipe"),
            ("probe a.tif --points pipe.tif", "is a pipe"), ("clip a.tif -o b.tif --shape pipe.tif",
             "is a pipe"), ("render a.tif -o pipe.tif --overwrite", ""),
            ("export a.tif -o pipe.tif --overwrite", "is a pipe, and cannot be replaced"),
        ):  # fmt: skip
            _, out, err = run(*line.split())
            assert said in out + err, line
            assert "unexpected" not in err


def test_a_path_with_a_nul_is_one_clear_error(tmp_path, run):
    for line in ("describe", "render -o x.png", "survey", "amend --notes x"):
        command, *rest = line.split()
        status, _, err = run(command, "a\0b.tif", *rest)
        assert (status, err.count("\n"), "Traceback" in err) == (1, 1, False), err
    for call in (sp.Look.load, sp.Colormap.load, sp.load_layers, sp.read_shapes, sp.survey):
        with pytest.raises(sp.AccessError, match="NUL"):
            call("a\0b")
    with pytest.raises(sp.AccessError, match="NUL"):
        sp.from_array(np.ones((2, 2))).save(tmp_path / "a\0b.tif")


def test_a_link_is_followed_and_never_replaced(tmp_path):
    raster = sp.from_array(np.ones((3, 3), "u1"))
    (tmp_path / "there").mkdir()
    os.symlink("there/new.tif", tmp_path / "link.tif")
    raster.save(tmp_path / "link.tif")
    assert (tmp_path / "link.tif").is_symlink()
    assert (tmp_path / "there/new.tif").is_file()
    with pytest.raises(sp.ExistingFile):
        raster.save(tmp_path / "link.tif")
    os.symlink("nowhere/new.tif", tmp_path / "lost.tif")
    with pytest.raises(sp.AccessError, match="there is no folder"):
        raster.save(tmp_path / "lost.tif")
    os.symlink("round.tif", tmp_path / "round.tif")
    with pytest.raises(sp.AccessError, match=r"round\.tif"):
        raster.save(tmp_path / "round.tif", overwrite=True)
    assert (tmp_path / "round.tif").is_symlink()


@pytest.mark.parametrize("after", [0.12, 0.2, 0.3])
def test_an_interrupt_at_any_moment_is_one_line(tmp_path, after):
    grid = sp.Grid.from_corner((2000, 2000), x=0, y=0, pixel_size=1, crs="EPSG:32727")
    sp.from_array(np.ones((3, 2000, 2000), "u1"), grid=grid).save(tmp_path / "a.tif")
    command = [sys.executable, "-m", "spectrane", "mosaic", "a.tif", "a.tif", "-o", "b.tif",
               "--overwrite"]  # fmt: skip
    process = subprocess.Popen(command, cwd=tmp_path, stderr=subprocess.PIPE, text=True)
    try:
        process.wait(after)
    except subprocess.TimeoutExpired:
        process.send_signal(signal.SIGINT)
    err = process.communicate(timeout=60)[1]
    begun = "init_import_site" not in err and ("Traceback" not in err or "spectrane" in err)
    if process.returncode == -signal.SIGINT or not begun:
        return  # Python itself was still starting
    assert process.returncode in (130, 0)
    assert process.returncode == 0 or err == "interrupted; nothing half-written is left\n"
