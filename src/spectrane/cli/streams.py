"""``-`` and addresses: what comes in by standard input, and what is sent on once it is written."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterator
from typing import Any

import click

from spectrane.model.addresses import STREAM, is_address

_DATA = ("export", "clip", "mosaic", "place")
"""Commands whose output is data; that of all others is a picture."""
_OUTPUTS = ("output", "preview", "legend", "profile", "survivors", "csv", "save_look",
            "keep_spectra")  # fmt: skip
"""Options that name one file, or folder, which is written; ``keep_as`` names files from its own."""


@contextlib.contextmanager
def streams(options: Any, name: str) -> Iterator[None]:
    """Let a command read ``-`` from standard input, write ``-o -`` to standard output, and write
    to addresses: into scratch files that are sent on.

    What it tells a person goes to standard error where its output is there. What goes to addresses
    is sent by ``send_now``, else at the end. Raises click's UsageError where both JSON and the
    output would go one way.
    """
    said = options.__dict__  # so that none of them counts as read
    with contextlib.ExitStack() as stack, contextlib.ExitStack() as sending:
        _take_in(options, stack)
        stack.callback(_unsent.clear)
        if said.get("output") == STREAM:
            if said.get("as_json"):
                raise click.UsageError("-o - and --json both want standard output")
            stack.enter_context(_handed_on(options, name))
        far = [one for one in (*_OUTPUTS, "out_dir") if is_address(said.get(one))]
        for one in far:
            sending.enter_context(
                _all_sent_on(options, stack) if one == "out_dir"
                else _sent_on(options, one, stack, among=name == "tiles")
            )  # fmt: skip
        _sending.extend([sending] if far else [])
        try:
            yield
        finally:
            _sending.clear()


def send_now() -> None:
    """Send what was written for addresses. Raises what sending raises; ``arrived`` knows of it."""
    if _sending:
        _sending[0].close()


def is_sent_on() -> bool:
    """Tell whether what a command writes is still to be sent."""
    return bool(_sending)


def arrived(*lines: str) -> bool:
    """Tell whether all that lines speak of is where they say."""
    return not any(address in line for line in lines for address in _unsent)


_sending: list[contextlib.ExitStack] = []
_unsent: set[str] = set()
"""Addresses where nothing could be sent."""


def as_told(text: str) -> str:
    """Return a text with the addresses that scratch files stand for."""
    for place, address in _stand_ins.items():
        text = text.replace(place, address)
    return text


_stand_ins: dict[str, str] = {}


@contextlib.contextmanager
def _standing_in(options: Any, output: str, place: str, address: str) -> Iterator[None]:
    """Let a command write to a scratch place, and tell it as the address that it stands for, also
    when it has been sent.
    """
    object.__setattr__(options, output, place)
    _stand_ins[place] = address
    try:
        yield
    finally:
        del _stand_ins[place]


@contextlib.contextmanager
def _sent_on(
    options: Any, output: str, stack: contextlib.ExitStack, *, among: bool
) -> Iterator[None]:
    from spectrane.model.targets import sent_to

    said = options.__dict__
    address, overwrite = said[output], bool(said.get("overwrite"))
    if said.get("linked"):
        raise click.UsageError("--linked names files from the folder it is written to, a local one")
    try:
        with sent_to(address, overwrite=overwrite, among=among) as place:
            stack.enter_context(_standing_in(options, output, place, address))
            yield
    except BaseException:
        _unsent.add(address)
        raise


@contextlib.contextmanager
def _all_sent_on(options: Any, stack: contextlib.ExitStack) -> Iterator[None]:
    from spectrane.model.errors import SpectraneError
    from spectrane.model.targets import check_free, scratch, send_on

    address = options.__dict__["out_dir"].rstrip("/")
    if "::" in address:
        raise click.UsageError(f"--out-dir {address}: expected a folder that is no archive")
    with scratch("output", address) as place:
        stack.enter_context(_standing_in(options, "out_dir", place, address))
        try:
            yield
        finally:  # what was done before one file failed
            failed = []
            for name in sorted(os.listdir(place)) if os.path.isdir(place) else []:
                try:
                    check_free(f"{address}/{name}", overwrite=options.overwrite)
                    send_on(os.path.join(place, name), f"{address}/{name}", alone=True)
                except SpectraneError as error:
                    failed.append(error)
                    _unsent.add(f"{address}/{name}")
            if failed:
                raise failed[0]


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

    from spectrane.model.targets import scratch

    out, told = sys.stdout.buffer, "standard output"
    with (
        scratch(f"output{_ending(options, name)}", told) as place,
        _standing_in(options, "output", place, told),
    ):
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
