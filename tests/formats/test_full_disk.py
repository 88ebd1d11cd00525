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
warnings.simplefilter("ignore")
import spectrane as sp
signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
opened = sp.open(sys.argv[1])
resource.setrlimit(resource.RLIMIT_FSIZE, (60_000, 60_000))
try:
    sp.amend(sys.argv[1], nodata=3, inside=True) if len(sys.argv) < 3 else opened.save(sys.argv[2])
except sp.AccessError as error:
    print(error)
"""


@pytest.mark.parametrize("name", ["a.tif", "a.fits", "a.png", "a.jpg", "a.npy", "a.nc", "a.zarr",
                                  "a.raw", "a.nii", "a.nii.gz", None])  # fmt: skip
def test_what_cannot_be_written_leaves_nothing(tmp_path, name):
    rng = np.random.default_rng(1)
    if name and ".nii" in name:
        given = tmp_path / "in.nii"
        sp.volume_from_array(rng.normal(size=(50, 50, 50)), affine=np.eye(4)).save(given)
    else:
        given = tmp_path / "in.tif"
        sp.from_array(rng.integers(0, 255, (3, 300, 300)).astype("u1")).save(given)
    before = given.read_bytes()
    target = [] if name is None else [str(tmp_path / name)]
    done = subprocess.run([sys.executable, "-c", CHILD, str(given), *target], capture_output=True,
                          text=True, timeout=120)  # fmt: skip
    assert (done.returncode, done.stderr) == (0, "")
    assert "cannot be written: File too large" in done.stdout
    assert (target or [str(given)])[0] in done.stdout
    assert os.listdir(tmp_path) == [given.name]
    assert given.read_bytes() == before
