"""The one table of formats: how a file is known, and who reads, writes and amends it.

Built-in entries stand here. Others are added by entry points of the group ``spectrane.formats``,
each of which is a ``Format``; they are looked up once per process.
"""

from __future__ import annotations

import functools
import importlib
import itertools
import os
import re
import threading
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, Protocol

from spectrane.engine.byte_file import ByteFile
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError
from spectrane.model.member import Member
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    from spectrane.engine.folders import Folder

ENTRY_POINTS = "spectrane.formats"


@record(frozen=True)
class Probe:
    """What a reader recognises its format by: the first bytes, the name, and the folder, where it
    is one: what it ``holds``, its ``names`` and how they begin.
    """

    head: bytes
    name: str
    folder: Folder | None = None


class FormatReader(Protocol):
    """What a format's reader offers; its class takes no arguments."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether this is of this format; never raises."""

    def members(self, file: ByteFile) -> list[Member]:
        """List the rasters in a file, or raise FormatError."""

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one raster of a file of this format, or raise FormatError."""


@record(frozen=True)
class Format:
    r"""One format. What does the work is named as ``module:name``, loaded when first needed.

    ``start`` is a regular expression that its first bytes match (up to 4096 are looked at), so that
    readers of other formats are not even loaded; None asks the reader itself, whatever a file
    begins with. ``folders`` tells that a folder can be of it. ``reader`` is a ``FormatReader``
    class. ``writer`` is called as ``writer(source, target, *, overwrite, progress, **options)``
    for targets with one of ``endings``. ``amend`` writes corrections inside a file, of the tables
    ``amends``.

    >>> Format("Plain", "a_module:PlainReader", rb"PLAIN\n").begins(Probe(b"PLAIN\n1 2", "a.txt"))
    True
    """

    name: str
    reader: str | None = None
    start: bytes | None = None
    folders: bool = False
    writer: str | None = None
    endings: tuple[str, ...] = ()
    amend: str | None = None
    amends: tuple[str, ...] = ()

    def begins(self, probe: Probe) -> bool:
        """Tell at a glance whether a file or folder may be of this format."""
        if self.reader is None:
            return False
        if probe.folder is not None:
            return self.folders
        return self.start is None or re.match(self.start, probe.head, re.DOTALL) is not None

    def load(self, what: str) -> Any:
        """Return what a field names, loaded."""
        module, _, name = str(getattr(self, what)).partition(":")
        return getattr(importlib.import_module(module), name)


_EVERYTHING = ("nodata", "bands", "grid", "look", "notes", "metadata")
_OURS = "spectrane.formats"
BUILT_IN: tuple[Format, ...] = (
    Format("TIFF", f"{_OURS}.tiff.reader:TiffReader", rb"II[*+]\0|MM\0[*+]",
           writer=f"{_OURS}.tiff.writer:write_tiff", endings=(".tif", ".tiff"),
           amend=f"{_OURS}.tiff.amending:amend_tiff", amends=(*_EVERYTHING, "overviews")),
    Format("FITS", f"{_OURS}.fits.reader:FitsReader", rb"SIMPLE",
           writer=f"{_OURS}.fits.writer:write_fits", endings=(".fits", ".fit"),
           amend=f"{_OURS}.fits.amending:amend_fits", amends=("nodata", "bands", "metadata")),
    Format("PNG", f"{_OURS}.png.reader:PngReader", rb"\x89PNG",
           writer=f"{_OURS}.png.writer:write_png", endings=(".png",),
           amend=f"{_OURS}.png.amending:amend_png", amends=_EVERYTHING),
    Format("JPEG", f"{_OURS}.jpeg:JpegReader", rb"\xff\xd8",
           writer=f"{_OURS}.jpeg:write_jpeg", endings=(".jpg", ".jpeg")),
    Format("JPEG 2000", f"{_OURS}.jpeg2000:Jpeg2000Reader", rb"\0\0\0\x0cjP|\xff\x4f\xff\x51"),
    Format("NPY", f"{_OURS}.npy:NpyReader", rb"\x93NUMPY",
           writer=f"{_OURS}.npy:write_npy", endings=(".npy",)),
    Format("KMZ", "spectrane.pages.kmz_reader:KmzReader", rb"PK\x03\x04.*\.kml"),
    Format("NPZ", f"{_OURS}.npy:NpzReader", rb"PK"),
    Format("HDF5", f"{_OURS}.cf.hdf5:Hdf5Reader", rb".*\x89HDF",
           writer=f"{_OURS}.cf.writer:write_netcdf", endings=(".nc",)),
    Format("Zarr", f"{_OURS}.cf.zarrs:ZarrReader", rb"(?!)", folders=True,
           writer=f"{_OURS}.cf.writer:write_zarr", endings=(".zarr",)),
    Format("NIfTI", f"{_OURS}.nifti.reader:NiftiReader",
           rb"\x5c\x01\0\0|\0\0\x01\x5c|\x1c\x02\0\0|\0\0\x02\x1c|\x1f\x8b\x08",
           writer=f"{_OURS}.nifti.writer:write_nifti", endings=(".nii", ".nii.gz")),
    Format("DICOM", f"{_OURS}.dicom.reader:DicomReader", rb".{128}DICM", folders=True),
    Format("stack", "spectrane.stack_file:StackReader",
           rb"\s*(?:#[^\n]*\n\s*)*kind\s*=\s*[\"']stack[\"']"),
    Format("STAC item", "spectrane.catalogs.opening:ItemReader", rb"\s*\{"),
    Format("headerless", writer=f"{_OURS}.raw:write_raw", endings=(".raw", ".bin")),
)  # fmt: skip

_lock = threading.Lock()
_added: tuple[Format, ...] | None = None
_failed: set[str] = set()
PROBED = 4096
"""So many first bytes a format is known by."""


def formats() -> tuple[Format, ...]:
    """Return every format there is: the built-in ones, then those that were added.

    Entry points are looked up at the first call. One that cannot be used draws one warning, which
    names it, and is passed over.
    """
    global _added
    with _lock:
        if _added is None:
            _added = tuple(_lookup())
        return BUILT_IN + _added


def _others() -> Iterator[Format]:
    """Yield the formats that were added, when somebody gets so far."""
    yield from formats()[len(BUILT_IN) :]


def _lookup() -> list[Format]:
    from importlib.metadata import entry_points

    formats_known: list[Format] = []
    for point in entry_points(group=ENTRY_POINTS):
        try:
            made = point.load()
            made = made() if callable(made) and not isinstance(made, Format) else made
            problem = _problem(made, formats_known)
        except Exception as error:
            problem = f"{type(error).__name__}: {error}"
        if problem:
            _tell(f"the format {point.name} ({point.value}) cannot be used: {problem}")
        else:
            formats_known.append(made)
    return formats_known


def _problem(made: Any, before: list[Format]) -> str:
    """Return why something that was added cannot be used; empty where it can."""
    if not isinstance(made, Format):
        return f"it is a {type(made).__name__}, not a spectrane.formats.table.Format"
    known = (*BUILT_IN, *before)
    if made.name in {one.name for one in known}:
        return "there is a format of that name"
    taken = sorted(set(made.endings) & {ending for one in known for ending in one.endings})
    return f"{', '.join(taken)} is the ending of another format" if taken else ""


def _tell(problem: str) -> None:
    warn_caller(problem)


def reader_for(probe: Probe) -> tuple[str, FormatReader] | None:
    """Return the format that says that a file is of it, with its reader; None where none does.

    A reader that fails to say so draws one warning per process, which names its format.
    """
    # Others are not even looked up for a file that a built-in format knows.
    for one in itertools.chain(BUILT_IN, _others()):
        if one.name in _failed or not one.begins(probe):
            continue
        try:
            reader: FormatReader = one.load("reader")()
            if reader.matches(probe):
                return one.name, reader
        except Exception as error:
            if one in BUILT_IN:
                raise
            _failed.add(one.name)
            _tell(f"the format {one.name} cannot be used: its reader fails: "
                  f"{type(error).__name__}: {error}")  # fmt: skip
    return None


def may_be_known(head: bytes) -> bool:
    """Tell at a glance, by a file's first bytes, whether any format may know it.

    >>> may_be_known(bytes([0x89]) + b"PNG"), may_be_known(b"name,x,y")
    (True, False)
    """
    starts = tuple(one.start for one in formats() if one.reader is not None)
    return _any_of(starts).match(head) is not None


@functools.cache
def _any_of(starts: tuple[bytes | None, ...]) -> re.Pattern[bytes]:
    joined = b"" if None in starts else b"|".join(b"(?:%s)" % one for one in starts if one)
    return re.compile(joined, re.DOTALL)


def format_called(name: str) -> Format | None:
    """Return a format by its name."""
    return next((one for one in formats() if one.name == name), None)


def writer_for(path: str | os.PathLike[str]) -> Any:
    """Return the writer that a target's ending names; FormatError lists those there are."""
    name = os.fspath(path).rstrip("/\\").lower()
    if name.endswith((".dcm", ".dicom")):
        raise FormatError(f"{os.fspath(path)}: DICOM is read, not written; write a volume to "
                          ".nii.gz, a picture to .png")  # fmt: skip
    writing = [one for one in formats() if one.writer is not None]
    ends = {ending.lower(): one for one in writing for ending in one.endings}
    # The longest that fits: .nii.gz before .gz.
    fitting = max((ending for ending in ends if name.endswith(ending)), key=len, default=None)
    if fitting is None:
        ending = os.path.splitext(name)[1] or "a file without an ending"
        raise FormatError(
            f"{os.fspath(path)}: cannot write {ending}; known endings: {', '.join(ends)}"
        )
    return ends[fitting].load("writer")


def formats_text() -> str:
    """Return a table of the formats there are: what is read, and under which endings written.

    >>> "FITS" in formats_text() and ".nii.gz" in formats_text()
    True
    """
    rows = [("Format", "read", "written as")]
    rows += [(one.name, "yes" if one.reader else "raw", ", ".join(one.endings) or "-")
             for one in formats()]  # fmt: skip
    width = max(len(name) for name, _, _ in rows)
    return "\n".join(f"{name:<{width}}  {read:<5} {ends}" for name, read, ends in rows)
