"""The list of a file's corrections, from which the last is taken back.

A step is noted before what it tells of is done: a process that ends in between leaves one that is
found not to have happened.
"""

from __future__ import annotations

import base64
import contextlib
import json
import os
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from typing import Any

from spectrane.formats import sidecar
from spectrane.formats.keeping import put_text
from spectrane.formats.splicing import splice
from spectrane.model.errors import AccessError, MetadataError, SpectraneError
from spectrane.model.regular_files import read_small_text, reason_of

_LARGEST = 1 << 30
_note: ContextVar[Callable[[dict[str, Any]], None] | None] = ContextVar("note", default=None)


def _journal(name: str) -> str:
    return os.path.join(os.path.dirname(name), f".{os.path.basename(name)}.spectrane.undo.json")


def remember(name: str, step: dict[str, Any]) -> None:
    """Add a step to a file's list."""
    put_text(_journal(name), json.dumps([*_steps(name), step]))


@contextlib.contextmanager
def remembering(name: str) -> Iterator[None]:
    """Let ``noted`` add to a file's list, each step once."""
    kept: list[dict[str, Any]] = []

    def keep(step: dict[str, Any]) -> None:
        if step not in kept:
            kept.append(step)
            remember(name, step)

    token = _note.set(keep)
    try:
        yield
    except OSError as error:
        if isinstance(error, SpectraneError):
            raise
        raise AccessError(f"{name}: cannot be written: {reason_of(error)}") from error
    finally:
        _note.reset(token)


def noted(step: dict[str, Any]) -> None:
    """Note how to undo what is about to be done, where somebody keeps a list."""
    keep = _note.get()
    if keep is not None:
        keep(step)


def _steps(name: str) -> list[dict[str, Any]]:
    try:
        text = read_small_text(_journal(name), _LARGEST, MetadataError, "a list of corrections")
        steps: list[dict[str, Any]] = json.loads(text)
        return steps
    except (SpectraneError, ValueError, RecursionError):
        return []


def undo_last(name: str) -> str:
    """Take the last step back that was done; return what that was.

    Raises MetadataError where there is none, or the file has changed since.
    """
    steps = _steps(name)
    while steps and not _happened(name, steps[-1]):
        steps = steps[:-1]
    if not steps:
        put_text(_journal(name), None)
        raise MetadataError(f"{name}: there is no correction to take back")
    *rest, last = steps
    if last["kind"] == "sidecar":
        put_text(sidecar.path_of(name), last["text"])
    else:
        _undo_inside(name, last)
    put_text(_journal(name), json.dumps(rest) if rest else None)
    return "the sidecar" if last["kind"] == "sidecar" else "the fields inside the file"


def _happened(name: str, step: dict[str, Any]) -> bool:
    """Tell whether a step was done, and not only noted."""
    if step["kind"] == "sidecar":
        return bool(sidecar.text_of(name) != step["text"])
    size = os.path.getsize(name)
    if step["size_after"] != step["size_before"] and size == step["size_before"]:
        return False
    if size != step["size_after"]:
        return True  # something else has happened since, which is told
    old = base64.b64decode(step["old"])
    with open(name, "rb") as file:
        file.seek(step["start"])
        same = bool(file.read(len(old)) == old)
    if same and step["kind"] == "patch":
        os.truncate(name, step["size_before"])  # what was added is pointed to by nothing
    return not (same and (step["kind"] == "patch" or bool(step["length"] == len(old))))


def _undo_inside(name: str, step: dict[str, Any]) -> None:
    """Put the old bytes back: in place for a patch, by a whole new file for a splice."""
    if os.path.getsize(name) != step["size_after"]:
        raise MetadataError(f"{name}: has changed since it was amended; it is left as it is")
    old = base64.b64decode(step["old"])
    start = step["start"]
    if step["kind"] != "patch":
        splice(name, start, step["length"], old)
        return
    with open(name, "r+b") as file:
        file.seek(start)
        file.write(old)
        file.flush()
        os.fsync(file.fileno())
        file.truncate(step["size_before"])
