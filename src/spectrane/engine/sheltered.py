"""Work that a hostile file can make crash or never end, done in a child process that may die."""

from __future__ import annotations

import faulthandler
import os
import pickle
import select
import signal
import time
import warnings
from collections.abc import Callable
from typing import Any, TypeVar

T = TypeVar("T")


class ChildDiedError(RuntimeError):
    """The child gave no answer: how it ended."""


def sheltered(action: Callable[[], T], seconds: float = 10.0) -> T:
    """Return what an action gives, run in a copy of this process; its exceptions are raised here.

    The result must be picklable. Where a process cannot be copied the action is done here. Raises
    ChildDiedError where the child crashed, or did not answer in so many seconds and was stopped.

    >>> sheltered(lambda: 6 * 7)
    42
    """
    if not hasattr(os, "fork"):
        return action()
    reading, writing = os.pipe()
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of threads, which the child has none of and needs none
        child = os.fork()
    if child == 0:
        _answer(action, reading, writing)
    os.close(writing)
    data, stopped = b"", True
    try:
        data = _all_of(reading, seconds)
    finally:
        os.close(reading)
        stopped = _still_runs(child)
        if stopped:
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
    if not data:
        how = f"did not end in {seconds:g} s" if stopped else "crashed"
        raise ChildDiedError(f"the library that reads it {how}")
    kind, result = pickle.loads(data)
    if kind == "error":
        raise result
    found: T = result
    return found


def _answer(action: Callable[[], Any], reading: int, writing: int) -> None:
    """Do the action, write what it gave, and end at once, without anybody's clean-up."""
    try:
        faulthandler.disable()  # its end is told by the parent, in one sentence
        os.close(reading)
        try:
            answer = ("result", action())
        except BaseException as error:
            answer = ("error", error)
        try:
            data = pickle.dumps(answer)
        except Exception:
            data = pickle.dumps(("error", RuntimeError(str(answer[1]))))
        view = memoryview(data)
        while view:
            view = view[os.write(writing, view) :]
    finally:
        os._exit(0)


def _all_of(reading: int, seconds: float) -> bytes:
    """Return everything that comes until the other end closes, or the time is over (nothing)."""
    parts: list[bytes] = []
    until = time.monotonic() + seconds
    while True:
        ready, _, _ = select.select([reading], [], [], max(0.0, until - time.monotonic()))
        if not ready:
            return b""
        part = os.read(reading, 1 << 20)
        if not part:
            return b"".join(parts)
        parts.append(part)


def _still_runs(child: int) -> bool:
    """Tell whether a child runs on; one that has ended is forgotten."""
    for _ in range(100):
        ended, _ = os.waitpid(child, os.WNOHANG)
        if ended:
            return False
        time.sleep(0.001)
    return True
