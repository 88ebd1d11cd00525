"""A disk that is full: one clear error, nothing left behind, and what was there stays."""

from __future__ import annotations

import os
import subprocess
import sys

import numpy as np
import pytest

import spectrane as sp

CHILD = """
import resource, signal, sys, warnings
sys.dont_write_bytecode = True  # it would be cut short, and be read by who comes next
warnings.simplefilter("ignore")
import spectrane as sp
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
flat, deep = sp.open("in.tif"), sp.open("in.nii")
resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))
for name in sys.argv[1:]:
    try:
        if name == "in.tif":
            sp.amend(name, nodata=3, inside=True)
        else:
            (deep if ".nii" in name else flat).save(name)
    except sp.AccessError as error:
        print(error)
"""
NAMES = ["a.tif", "a.fits", "a.png", "a.jpg", "a.npy", "a.nc", "a.zarr", "a.raw", "a.nii",
         "a.nii.gz", "in.tif"]  # fmt: skip


@pytest.mark.filterwarnings("ignore")
def test_what_cannot_be_written_leaves_nothing(tmp_path):
    rng = np.random.default_rng(1)
    sp.volume_from_array(rng.normal(size=(50, 50, 50)), affine=np.eye(4)).save(tmp_path / "in.nii")
    sp.from_array(rng.integers(0, 255, (3, 300, 300)).astype("u1")).save(tmp_path / "in.tif")
    before = (tmp_path / "in.tif").read_bytes()
    done = subprocess.run([sys.executable, "-c", CHILD, *NAMES], capture_output=True, text=True,
                          timeout=120, cwd=tmp_path)  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")
    assert done.stdout.splitlines() == [f"{n}: cannot be written: File too large" for n in NAMES]
    assert sorted(os.listdir(tmp_path)) == ["in.nii", "in.tif"]
    assert (tmp_path / "in.tif").read_bytes() == before


@pytest.mark.parametrize("name", ["a.tif", "a.npy", "a.png"])
def test_a_file_is_on_the_disk_before_it_gets_its_name_and_the_name_after(
    tmp_path, monkeypatch, name
):
    done = []
    rename = os.replace
    monkeypatch.setattr(os, "fsync", lambda number: done.append(os.path.isdir(f"/dev/fd/{number}")))
    monkeypatch.setattr(os, "replace", lambda a, b: done.append("named") or rename(a, b))
    sp.from_array(np.ones((4, 4), "u1")).save(tmp_path / name)
    at = done.index("named")
    assert done[at - 1] is False  # the file
    assert done[at + 1] is True  # its folder
