"""Work in a child process that may die."""

from __future__ import annotations

import os

import pytest

from spectrane.engine.sheltered import ChildDiedError, sheltered


def interrupted():
    raise KeyboardInterrupt


@pytest.mark.parametrize(
    ("action", "error", "seconds"),
    [
        ((os._exit, 0), ChildDiedError, 5),
        ((os.abort,), ChildDiedError, 5),
        ((os.read, 0, "no number"), TypeError, 5),
        ((__import__("time").sleep, 9), ChildDiedError, 0.2),
        ((interrupted,), KeyboardInterrupt, 5),
    ],
)
def test_one_child_works_on_until_something_breaks(action, error, seconds):
    first = sheltered(os.getpid)
    assert first == sheltered(os.getpid, again=False) != os.getpid()
    with pytest.raises(error):
        sheltered(*action, seconds=seconds)
    second = sheltered(os.getpid)
    assert second not in (first, os.getpid())
    with pytest.raises(ProcessLookupError):
        os.kill(first, 0)


def test_a_child_that_died_while_it_rested_is_replaced():
    first = sheltered(os.getpid)
    os.kill(first, 9)
    assert sheltered(os.getpid) != first


def test_a_copy_of_what_is_open_is_used_once_and_a_clean_one_holds_nothing_open(tmp_path):
    with pytest.raises(TypeError):
        sheltered(os.read, 0, "no number")  # nobody waits now
    once = sheltered(os.getpid, again=False)
    with open(tmp_path / "a", "wb") as held:
        assert sheltered(os.getpid) != once
        with pytest.raises(OSError, match="Bad file descriptor"):
            sheltered(os.fstat, held.fileno())
