"""Work that a hostile file can make crash or never end, done in a child process that may die."""

from __future__ import annotations

import atexit
import contextlib
import faulthandler
import gc
import math
import os
import pickle
import select
import signal
import threading
import time
import warnings
from collections.abc import Callable
from typing import IO, Any, TypeVar

T = TypeVar("T")

_RESTS = 1.0
"""Seconds a child waits for more work; while it lives it holds memory that this process freed."""


class ChildDiedError(RuntimeError):
    """The child gave no answer: how it ended."""


def sheltered(
    action: Callable[..., T], *arguments: Any, seconds: float = 60.0, work: int = 10,
    again: bool = True,
) -> T:  # fmt: skip
    """Return what a function gives, called in a copy of this process; its errors are raised here.

    The function, its arguments and the result must be picklable. One copy does one action after
    the other, since most of its cost is its start; it is thrown away at the first error, for a
    broken file may have broken it too. ``again=False`` says that a copy made now would see what
    this process has open for ever as it is now, and is good for this action only. Where a process
    cannot be copied the function is called here. Raises ChildDiedError where the child crashed,
    or did not answer in so many seconds, or after so many seconds of ``work`` of the processor, and
    was stopped.

    >>> sheltered(pow, 6, 2)
    36
    """
    if not hasattr(os, "fork"):
        return action(*arguments)
    request = pickle.dumps((action, arguments, work))
    child = _resting()
    answer = child.ask(request, seconds) if child is not None else None
    if child is None or (answer is None and not child.stopped):
        # None rested, or it ended while it rested, or it crashed: a new one tells which.
        child = _Child(alone=again)
        answer = child.ask(request, seconds)
    if answer is None:
        how = f"did not end in {min(seconds, work):g} s" if child.stopped else "crashed"
        raise ChildDiedError(f"the library that reads it {how}")
    kind, result = answer
    if kind == "error":
        child.end()
        raise result
    if child.alone:
        with _lock:
            _children.append(child)
    else:
        child.end()
    found: T = result
    return found


class _Child:
    """A copy of this process that does what it is asked, until nothing is asked for a while."""

    def __init__(self, *, alone: bool) -> None:
        self.owner = os.getpid()
        self.alone = alone
        self.stopped = False
        asked, asking = os.pipe()
        answered, answering = os.pipe()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # of threads, which the child has none of
            self._process = os.fork()
        if self._process == 0:
            os.close(asking)
            os.close(answered)
            _serve(asked, answering, alone)
        os.close(asked)
        os.close(answering)
        self._asking, self._answered = os.fdopen(asking, "wb"), os.fdopen(answered, "rb")

    def ask(self, request: bytes, seconds: float) -> tuple[str, Any] | None:
        """Return the answer; None, and the child is no more, where it gives none."""
        try:
            self._asking.write(request)
            self._asking.flush()
            if _says_something(self._answered, seconds):
                answer: tuple[str, Any] = pickle.load(self._answered)
                return answer
            self.stopped = True
        except (EOFError, OSError, pickle.UnpicklingError):
            pass
        except BaseException:  # an interrupted question must not be answered to the next one
            self.end()
            raise
        self.end()
        return None

    def let_go(self) -> None:
        """Forget the child, which is another process's."""
        for line in (self._asking, self._answered):
            with contextlib.suppress(OSError):
                line.close()

    def end(self) -> None:
        """Stop the child and forget it."""
        self.let_go()
        with contextlib.suppress(ProcessLookupError, ChildProcessError):
            os.kill(self._process, signal.SIGKILL)
            _, status = os.waitpid(self._process, 0)
            overworked = os.WIFSIGNALED(status) and os.WTERMSIG(status) == signal.SIGXCPU
            self.stopped = self.stopped or overworked


def _says_something(line: IO[bytes], seconds: float) -> bool:
    waiting = select.poll()
    waiting.register(line, select.POLLIN)
    return bool(waiting.poll(seconds * 1000))


_children: list[_Child] = []
_lock = threading.Lock()


@atexit.register
def _end_all() -> None:
    while (child := _resting()) is not None:
        child.end()


def _resting() -> _Child | None:
    """Return a child that waits for work; those of the process this one is a copy of are left."""
    with _lock:
        while _children:
            child = _children.pop()
            if child.owner == os.getpid():
                return child
            child.let_go()
        return None


def _serve(asked: int, answering: int, alone: bool) -> None:
    """Do what is asked, one action after the other, and end at once, without anybody's clean-up."""
    try:
        faulthandler.disable()  # its end is told by the parent, in one sentence
        gc.freeze()  # what the parent has is never cleaned up here
        for number in (signal.SIGINT, signal.SIGTERM):
            signal.signal(number, signal.SIG_DFL)
        if alone:
            first, last = sorted((asked, answering))
            os.closerange(3, first)
            os.closerange(first + 1, last)
            os.closerange(last + 1, os.sysconf("SC_OPEN_MAX"))
        with open(asked, "rb") as requests, open(answering, "wb") as answers:
            while _says_something(requests, _RESTS):
                answers.write(_answer(requests))
                answers.flush()
    finally:
        os._exit(0)


def _answer(requests: IO[bytes]) -> bytes:
    import resource  # there is none where there is no fork

    action, arguments, work = pickle.load(requests)
    try:
        _, most = resource.getrlimit(resource.RLIMIT_CPU)
        resource.setrlimit(resource.RLIMIT_CPU, (math.ceil(time.process_time()) + work, most))
        answer = ("result", action(*arguments))
    except BaseException as error:
        answer = ("error", error)
    try:
        return pickle.dumps(answer)
    except Exception:
        return pickle.dumps(("error", RuntimeError(str(answer[1]))))
