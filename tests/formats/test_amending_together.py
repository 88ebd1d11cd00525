"""Several processes that amend one file, and one that is killed while it does."""

from __future__ import annotations

import multiprocessing
import os
import signal
import time

import numpy as np
import pytest

import spectrane as sp
from spectrane.engine import locking
from spectrane.formats import undoing

pytestmark = [
    pytest.mark.filterwarnings("ignore:.*fork:DeprecationWarning"),
    pytest.mark.filterwarnings("ignore:FITS takes the first row:spectrane.DataWarning"),
]


def amend_bands(path, bands, inside):
    for band in bands:
        sp.amend(path, bands={band: {"name": f"named {band}"}}, inside=inside)


@pytest.mark.parametrize(("ending", "inside"), [("tif", False), ("tif", True), ("fits", True)])
def test_no_correction_is_lost(tmp_path, ending, inside):
    path = tmp_path / f"a.{ending}"
    sp.from_array(np.ones((12, 9, 9), "u1")).save(path)
    context = multiprocessing.get_context("fork")
    workers = [context.Process(target=amend_bands, args=(path, range(k, 13, 3), inside))
               for k in (1, 2, 3)]  # fmt: skip
    for one in workers:
        one.start()
    for one in workers:
        one.join(60)
        assert one.exitcode == 0
    assert [band.name for band in sp.open_raster(path).bands] == [
        f"named {k}" for k in range(1, 13)
    ]
    assert len(undoing._steps(str(path))) == 12
    assert not [name for name in os.listdir(tmp_path) if "lock" in name]


def hold(path, ready):
    with locking.alone_with(path):
        ready.set()
        time.sleep(60)


def test_who_waits_says_for_whom_and_a_dead_holder_blocks_nobody(tmp_path, monkeypatch):
    monkeypatch.setattr(locking, "_TOLD_AFTER", 0.1)
    path = tmp_path / "a.tif"
    sp.from_array(np.ones((1, 9, 9), "u1")).save(path)
    context = multiprocessing.get_context("fork")
    ready = context.Event()
    holder = context.Process(target=hold, args=(str(path), ready))
    holder.start()
    assert ready.wait(20)
    monkeypatch.setattr(locking, "_MOST", 0.3)
    with (
        pytest.warns(sp.DataWarning, match=rf"waiting for process {holder.pid} on"),
        pytest.raises(sp.AccessError, match=rf"process {holder.pid} on .* holds its lock"),
    ):
        sp.amend(path, notes="x")
    os.kill(holder.pid, signal.SIGKILL)
    holder.join()
    sp.amend(path, notes="x")
    assert sp.open_raster(path).metadata["notes"] == "x"


@pytest.mark.parametrize("ending", ["tif", "fits"])
@pytest.mark.parametrize("when", ["noted", "done"])
def test_a_kill_leaves_the_list_of_corrections_right(tmp_path, monkeypatch, ending, when):
    path = tmp_path / f"a.{ending}"
    sp.from_array(np.ones((2, 9, 9), "u1"), bands=["one", "two"]).save(path)
    before = path.read_bytes()
    sp.amend(path, bands={1: {"name": "first"}}, inside=True)
    between = path.read_bytes()

    def killed():
        plain = undoing.remember

        def remember(name, step):
            plain(name, step)
            if when == "noted":
                os.kill(os.getpid(), signal.SIGKILL)

        undoing.remember = remember
        sp.amend(path, bands={2: {"name": "second"}}, inside=True)
        os.kill(os.getpid(), signal.SIGKILL)

    worker = multiprocessing.get_context("fork").Process(target=killed)
    worker.start()
    worker.join(30)
    assert worker.exitcode == -signal.SIGKILL
    names = ["first", "two" if when == "noted" else "second"]
    assert [band.name for band in sp.open_raster(path).bands] == names
    if when == "done":
        sp.amend(path, undo=True)
        assert path.read_bytes() == between
    sp.amend(path, undo=True)
    assert path.read_bytes() == before
    with pytest.raises(sp.MetadataError, match="no correction"):
        sp.amend(path, undo=True)
