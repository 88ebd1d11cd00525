"""Which formats there are, and which one a file is: told by its first bytes, never its ending."""

from __future__ import annotations

import inspect
import os
import re
import shlex
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any, TypeVar, cast

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.damage import DAMAGE_KEPT, keeps
from spectrane.engine.files import HeldFile, OpenFile, file_beside, given_file, open_bytes
from spectrane.formats import sidecar
from spectrane.formats.reduced_files import READ_AS, reduced_name, with_reduced
from spectrane.formats.table import PROBED, FormatReader, Probe, formats, reader_for
from spectrane.model.addresses import file_name, file_stem
from spectrane.model.errors import AccessError, FormatError, MissingFile
from spectrane.model.log import DEBUG, log
from spectrane.model.member import Member, find_member
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.engine.folders import Folder

T = TypeVar("T")


standard_input: dict[str, bytes] = {}
"""What came in where a command was given ``-`` for a file."""


def open_file(path: Any, storage_options: Mapping[str, Any] | None = None) -> ByteFile:
    """Return the file, or folder, at a path or address, or of bytes or an open file."""
    if not isinstance(path, str | os.PathLike):
        return given_file(path)
    name = os.fspath(path)
    if name in standard_input:
        return HeldFile(name, standard_input[name])
    if os.path.isdir(name):
        from spectrane.engine.folders import LocalFolder

        return LocalFolder(name)
    file = open_bytes(name, storage_options)
    if file.is_folder:
        from spectrane.engine.folders import StorageFolder

        return StorageFolder(name, storage_options)
    return file


def open_source(
    path: Any, *, member: int | str | None = None, damaged: str = "error",
    storage_options: Mapping[str, Any] | None = None, **options: Any,
) -> Source:  # fmt: skip
    """Open a file of any known format, with the corrections kept in its sidecar laid over it.

    ``damaged`` data are an ``error``, or with ``keep`` invalid: blocks, tiles, chunks, frames, rows
    or (of JPEG, PNG and the like) the picture; how much is missing is told when it is read.
    ``options`` are the reader's own.

    Raises MissingFile or AccessError where it cannot be read, FormatError where it is of no
    known format or broken, MetadataError where its sidecar cannot be used.
    """
    file = open_file(path, storage_options)
    nameless = isinstance(file, HeldFile | OpenFile)
    file.keeps_damaged = keeps(damaged)
    source: Source
    try:
        beside = None if nameless else sidecar.read(file.name, storage_options)
        how: dict[str, Any]
        if beside is not None and beside.raw is not None:
            from spectrane.formats.raw import doubt, open_raw

            source, how = open_raw(file, beside.raw), dict(beside.raw)
            if "://" not in file.name and (told := doubt(file, beside.raw)):
                warn_caller(told)
        else:
            kept = beside.reading.options() if beside is not None and beside.reading else {}
            how = kept | options
            source = open_with(reader_of(file)[1], file, member, **how)
        source.coded = not source.mixable
        source.has_mask = source.has_mask or file.keeps_damaged
        local = "://" not in file.name and not nameless
        if local and len(source.shape) == 2:  # of volumes nothing is kept
            source.state = _state(source, file, member, how)
        log(DEBUG, "opened %s as %s", file.name, source.format)
        if nameless:
            return source
        shown = source if beside is None else sidecar.with_corrections(source, beside)
        return with_reduced(shown) if _has_copy(shown, file, member) else shown
    except BaseException:
        file.close()
        raise


def _state(
    source: Source, file: ByteFile, member: int | str | None, how: Mapping[str, Any]
) -> tuple[Any, ...] | None:
    """Return what tells a reading from any other: the file's state, and how it is read."""
    known = file.lasting_key() if source.state is None else source.state
    if not known:  # what a file names may lie where no state is told
        return None
    read_as = (READ_AS, *sorted((name, str(value)) for name, value in how.items()))
    kept = (DAMAGE_KEPT,) if file.keeps_damaged else ()
    return (*known, *(() if source.state else (str(member),)), read_as, *kept)


def _has_copy(source: Source, file: ByteFile, member: int | str | None) -> bool:
    """Tell whether a reduced copy lies beside a file, which is of its first raster alone."""
    if "://" in source.name or len(source.shape) != 2:
        return False
    if not os.path.exists(reduced_name(source.name)):
        return False
    if member in (None, 1, "1") or source.members == 1:
        return True
    return find_member(reader_of(file)[1].members(file), member, file.name).number == 1


def open_with(
    reader: FormatReader, file: ByteFile, member: int | str | None = None, **options: Any
) -> Source:
    """Open a file with one reader; whatever it stumbles over is a FormatError."""
    known = inspect.signature(reader.open).parameters if options else {}
    for name in options:
        if name not in known:
            raise FormatError(f"{file.name}: {name} means nothing for this format")
    return _guarded(file, lambda: reader.open(file, member, **options))


def members_of(path: Any, storage_options: Mapping[str, Any] | None = None) -> list[Member]:
    """List the rasters inside a file of any known format."""
    file = open_file(path, storage_options)
    try:
        nameless = isinstance(file, HeldFile | OpenFile)
        beside = None if nameless else sidecar.read(file.name, storage_options)
        if beside is not None and beside.raw is not None:
            raw = beside.raw
            return [Member(1, "", raw.rows, raw.columns, raw.bands, raw.type)]
        return _guarded(file, lambda: reader_of(file)[1].members(file))
    finally:
        file.close()


def reader_of(file: ByteFile) -> tuple[str, FormatReader]:
    """Return the format's name and reader. Raises FormatError where none knows the file."""
    folder = cast("Folder", file) if file.is_folder else None
    probe = Probe(file.head()[:PROBED], file.name, folder)
    entry = reader_for(probe)
    if entry is not None:
        return entry
    _point_to_the_head(file)
    head = probe.head
    what = "is empty" if not head else f"begins with {head[:8]!r}, which no known format does"
    if folder is not None:
        raise FormatError(f"{file.name}: is a folder that no known format is kept as; what lies "
                          f"below it is listed by: spectrane survey {file.name}")  # fmt: skip
    known_as = _known_otherwise(head, file.name)
    if known_as is not None:
        raise FormatError(f"{file.name}: {known_as}")
    known = ", ".join(one.name for one in formats() if one.reader is not None)
    raise FormatError(
        f"{file.name}: {what}; known formats: {known}; a headerless file can be "
        "described with: spectrane raw"
    )


def _point_to_the_head(file: ByteFile) -> None:
    """Raise FormatError, with where to look, for the image of a pair: its head says what it is."""
    name = file.name
    named = re.search(r"\.img(\.gz)?$", file_name(name), re.IGNORECASE)
    for ending in (".hdr", ".hdr.gz", ".HDR") if named else ():
        try:
            head = file_beside(file, file_stem(name) + ending)
        except (MissingFile, AccessError):
            continue
        head.close()
        raise FormatError(f"{name}: holds the numbers of a pair and says nothing of them; open its "
                          f"head: {head.name}")  # fmt: skip


def _known_otherwise(head: bytes, name: str) -> str | None:
    """Return what a file is that is known, and no raster; and what to do with it."""
    if re.match(rb"\s*<(!doctype\s+html|html)", head, re.IGNORECASE):
        return ("is a page to be read in a browser, and no file of data; a server lists no "
                "folders, and may want a password first")  # fmt: skip
    archive = archive_of(head)
    if archive is not None:
        inside = shlex.quote(f"{archive}://::{name}")
        return f"is an archive; what is in it is listed by: spectrane survey {inside}"
    if head[:3] == b"\x1f\x8b\x08":
        return "is packed by gzip as a whole; unpack it first (gunzip)"
    return None


def archive_of(head: bytes) -> str | None:
    r"""Return by which scheme the files in an archive are named; None of what is none.

    >>> archive_of(b"PK\3\4..."), archive_of(bytes(257) + b"ustar"), archive_of(b"II*")
    ('zip', 'tar', None)
    """
    if head[:4] in (b"PK\3\4", b"PK\5\6"):
        return "zip"
    return "tar" if head[257:262] == b"ustar" else None


def _guarded(file: ByteFile, action: Callable[[], T]) -> T:
    """Turn what a reader stumbles over into a FormatError that names the file."""
    with ReadingAs(file.name, FormatError, problem="broken header"):
        return action()
