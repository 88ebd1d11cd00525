"""Which formats there are, and which one a file is: told by its first bytes, never its ending."""

from __future__ import annotations

import importlib
import os
from typing import Any, Protocol

from spectrane.engine.files import ByteFile, open_bytes
from spectrane.model.errors import FormatError
from spectrane.model.source import Source

HEAD = 4096
"""Bytes that a reader is given to recognise its format by."""


class FormatReader(Protocol):
    """What a format's reader offers; its class takes no arguments."""

    def matches(self, head: bytes) -> bool:
        """Tell whether these first bytes (at most 4096) are of this format; never raises."""

    def open(self, file: ByteFile, member: int | None = None) -> Source:
        """Open a file of this format, or raise FormatError."""


# Name -> "module:class", imported when first needed.
READERS: dict[str, str] = {"TIFF": "spectrane.formats.tiff.reader:TiffReader"}
WRITERS: dict[str, str] = {
    ".tif": "spectrane.formats.tiff.writer:write_tiff",
    ".tiff": "spectrane.formats.tiff.writer:write_tiff",
}
ENTRY_POINTS = "spectrane.formats"


def open_source(path: str | os.PathLike[str], *, member: int | None = None) -> Source:
    """Open a file of any known format.

    Raises MissingFile or AccessError where it cannot be read, FormatError where it is of no
    known format or broken.
    """
    file = open_bytes(path)
    try:
        head = file.read(0, min(HEAD, file.size))
        for name in READERS:
            reader = _loaded(READERS[name])()
            if reader.matches(head):
                return _opened(reader, file, member)
        for reader in _from_elsewhere():
            if reader.matches(head):
                return _opened(reader, file, member)
    except BaseException:
        file.close()
        raise
    what = "is empty" if not head else f"begins with {head[:8]!r}, which no known format does"
    raise FormatError(f"{file.name}: {what}; known formats: {', '.join(READERS)}")


def _opened(reader: FormatReader, file: ByteFile, member: int | None) -> Source:
    try:
        return reader.open(file, member)
    except (ValueError, IndexError, KeyError, OverflowError, ArithmeticError) as error:
        if isinstance(error, FormatError) or type(error).__module__.startswith("spectrane"):
            raise
        raise FormatError(f"{file.name}: broken header: {error}") from error


def _loaded(path: str) -> Any:
    module, _, name = path.partition(":")
    return getattr(importlib.import_module(module), name)


def _from_elsewhere() -> list[FormatReader]:
    from importlib.metadata import entry_points

    return [point.load()() for point in entry_points(group=ENTRY_POINTS)]


def writer_for(path: str | os.PathLike[str]) -> Any:
    """Return the writer that a target's ending names; FormatError lists those there are."""
    ending = os.path.splitext(os.fspath(path))[1].lower()
    if ending not in WRITERS:
        raise FormatError(
            f"{os.fspath(path)}: cannot write {ending or 'a file without an ending'}; "
            f"known endings: {', '.join(WRITERS)}"
        )
    return _loaded(WRITERS[ending])
