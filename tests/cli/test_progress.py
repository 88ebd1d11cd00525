"""A bar appears on a terminal once a person has waited; work inside work tells it there."""

from __future__ import annotations

import sys
import threading
import time

import pytest

from spectrane.cli import progress
from spectrane.cli.progress import out_of_the_way, progress_bar


@pytest.fixture
def terminal(monkeypatch):
    """A terminal, and no patience."""
    monkeypatch.setattr(sys.stderr, "isatty", lambda: True, raising=False)
    monkeypatch.setattr(progress, "_PATIENCE", 0.02)


def waited_for(what):
    for _ in range(200):
        if what():
            return True
        time.sleep(0.01)
    return False


def test_one_bar_for_work_inside_work(terminal):
    with progress_bar("compare", quiet=False):
        outer = progress._shown
        assert waited_for(lambda: outer._shown is not None)
        assert outer._shown.n == 0
        with progress_bar("a.tif", quiet=False) as told:
            assert progress._shown is outer
            told(3, 4)
            bar = outer._shown
            assert (bar.desc, bar.n, bar.total) == ("a.tif", 3, 4)
        out_of_the_way()
        assert outer._shown is None
        assert waited_for(lambda: outer._shown is not None)
    assert progress._shown is None
    assert outer._shown is None
    outer._show()  # a timer that fires too late
    assert outer._shown is None
    assert not any(isinstance(one, threading.Timer) and one.is_alive() and not one.finished.is_set()
                   for one in threading.enumerate())  # fmt: skip


def test_nothing_is_shown_to_who_wants_none_and_to_files(terminal, monkeypatch):
    with progress_bar("x", quiet=True) as told:
        told(1, 2)
        assert progress._shown is None
    monkeypatch.setattr(sys.stderr, "isatty", lambda: False)
    with progress_bar("x", quiet=False):
        assert progress._shown is None
        out_of_the_way()


@pytest.mark.parametrize("line", ["render a.tif -o o.png", "histogram a.tif -o o.png",
                                  "probe a.tif --pixel-at 1,1", "describe a.tif"])  # fmt: skip
def test_every_command_has_one(line, run, tmp_path, monkeypatch):
    import numpy as np

    import spectrane as sp

    seen = []
    from spectrane.cli import options

    monkeypatch.setattr(options, "progress_bar", lambda label, quiet: (
        seen.append(label), progress_bar(label, quiet))[1])  # fmt: skip
    monkeypatch.chdir(tmp_path)
    sp.from_array(np.arange(90.0).reshape(9, 10)).save("a.tif")
    assert run(*line.split())[0] == 0
    assert seen == [line.split()[0]]
