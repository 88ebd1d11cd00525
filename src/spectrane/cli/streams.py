"""``-`` for a file: what comes in, and where one output goes on to another program."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterator
from typing import Any

import click

STREAM = "-"
_DATA = ("export", "clip", "mosaic", "place")
"""Commands whose output is data; that of all others is a picture."""


@contextlib.contextmanager
def streams(options: Any, name: str) -> Iterator[None]:
    """Let a command read ``-`` from standard input, and write ``-o -`` to standard output.

    What it tells a person goes to standard error then. Raises click's UsageError where both JSON
    and the output would go one way.
    """
    with contextlib.ExitStack() as stack:
        _take_in(options, stack)
        if getattr(options, "output", None) == STREAM:
            if getattr(options, "as_json", False):
                raise click.UsageError("-o - and --json both want standard output")
            stack.enter_context(_handed_on(options, name))
        yield


def _take_in(options: Any, stack: contextlib.ExitStack) -> None:
    given = [getattr(options, one, None) for one in ("files", "file", "raster", "volume")]
    named = [name for one in given if one for name in ([one] if isinstance(one, str) else one)]
    if STREAM not in named:
        return
    from spectrane.formats.registry import standard_input

    standard_input[STREAM] = sys.stdin.buffer.read()
    stack.callback(standard_input.pop, STREAM, None)


@contextlib.contextmanager
def _handed_on(options: Any, name: str) -> Iterator[None]:
    import shutil
    import tempfile

    out = sys.stdout.buffer
    with tempfile.TemporaryDirectory() as folder:
        place = os.path.join(folder, f"output{_ending(options, name)}")
        object.__setattr__(options, "output", place)
        with contextlib.redirect_stdout(sys.stderr):
            yield
        if os.path.exists(place):  # nothing is in a dry run
            with open(place, "rb") as file:
                shutil.copyfileobj(file, out)
            out.flush()


def _ending(options: Any, name: str) -> str:
    if name not in _DATA:
        return ".png"
    from spectrane.formats.registry import open_source

    files = getattr(options, "files", None) or [options.file]
    with contextlib.closing(open_source(files[0])) as source:
        return ".nii" if len(source.shape) == 3 else ".tif"
