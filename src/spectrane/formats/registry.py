"""Which formats there are, and which one a file is: told by its first bytes, never its ending."""

from __future__ import annotations

import importlib
import inspect
import os
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Protocol

from spectrane.engine.damage import keeps
from spectrane.engine.files import ByteFile, open_bytes
from spectrane.formats import sidecar
from spectrane.model.errors import FormatError
from spectrane.model.member import Member
from spectrane.model.source import Source


@dataclass(frozen=True)
class Probe:
    """What a reader recognises its format by: the first bytes, the name, and whether a folder."""

    head: bytes
    name: str
    folder: bool = False


class FormatReader(Protocol):
    """What a format's reader offers; its class takes no arguments."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether this is of this format; never raises."""

    def members(self, file: ByteFile) -> list[Member]:
        """List the rasters in a file, or raise FormatError."""

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one raster of a file of this format, or raise FormatError."""


# Name -> "module:class", imported when first needed.
READERS: dict[str, str] = {
    "TIFF": "spectrane.formats.tiff.reader:TiffReader",
    "FITS": "spectrane.formats.fits.reader:FitsReader",
    "PNG": "spectrane.formats.png.reader:PngReader",
    "JPEG": "spectrane.formats.jpeg:JpegReader",
    "JPEG 2000": "spectrane.formats.jpeg2000:Jpeg2000Reader",
    "NPY": "spectrane.formats.npy:NpyReader",
    "NPZ": "spectrane.formats.npy:NpzReader",
    "HDF5": "spectrane.formats.cf.hdf5:Hdf5Reader",
    "Zarr": "spectrane.formats.cf.zarrs:ZarrReader",
    "NIfTI": "spectrane.formats.nifti.reader:NiftiReader",
    "DICOM": "spectrane.formats.dicom.reader:DicomReader",
}
WRITERS: dict[str, str] = {
    ".tif": "spectrane.formats.tiff.writer:write_tiff",
    ".tiff": "spectrane.formats.tiff.writer:write_tiff",
    ".fits": "spectrane.formats.fits.writer:write_fits",
    ".fit": "spectrane.formats.fits.writer:write_fits",
    ".png": "spectrane.formats.png.writer:write_png",
    ".jpg": "spectrane.formats.jpeg:write_jpeg",
    ".jpeg": "spectrane.formats.jpeg:write_jpeg",
    ".npy": "spectrane.formats.npy:write_npy",
    ".nc": "spectrane.formats.cf.writer:write_netcdf",
    ".zarr": "spectrane.formats.cf.writer:write_zarr",
    ".nii": "spectrane.formats.nifti.writer:write_nifti",
    ".nii.gz": "spectrane.formats.nifti.writer:write_nifti",
    ".raw": "spectrane.formats.raw:write_raw",
    ".bin": "spectrane.formats.raw:write_raw",
}
ENTRY_POINTS = "spectrane.formats"


class FolderFile(ByteFile):
    """A folder that is one raster file; it has no bytes of its own."""

    size = 0

    def __init__(self, name: str) -> None:
        self.name = name.rstrip("/" + os.sep) or name  # what is kept with it lies beside it

    @property
    def key(self) -> tuple[Any, ...]:
        """Path and time of the last change."""
        return (os.path.abspath(self.name), os.stat(self.name).st_mtime_ns)

    def head(self) -> bytes:
        """Return nothing."""
        return b""


def open_file(path: str | os.PathLike[str]) -> ByteFile:
    """Return the file, or folder, at a path or address."""
    name = os.fspath(path)
    return FolderFile(name) if os.path.isdir(name) else open_bytes(name)


def open_source(
    path: str | os.PathLike[str], *, member: int | str | None = None, damaged: str = "error",
    **options: Any,
) -> Source:  # fmt: skip
    """Open a file of any known format, with the corrections kept in its sidecar laid over it.

    ``damaged`` data are an ``error``, or with ``keep`` invalid: blocks, tiles, chunks, frames, rows
    or (of JPEG, PNG and the like) the picture; how much is missing is told when it is read.
    ``options`` are the reader's own.

    Raises MissingFile or AccessError where it cannot be read, FormatError where it is of no
    known format or broken, MetadataError where its sidecar cannot be used.
    """
    file = open_file(path)
    file.keeps_damaged = keeps(damaged)
    source: Source
    try:
        beside = sidecar.read(file.name)
        if beside is not None and beside.raw is not None:
            from spectrane.formats.raw import open_raw

            source = open_raw(file, beside.raw)
        else:
            kept = beside.reading.options() if beside is not None and beside.reading else {}
            options = kept | options
            source = open_with(reader_of(file)[1], file, member, **options)
        source.coded = not source.mixable
        source.has_mask = source.has_mask or file.keeps_damaged
        local = "://" not in file.name
        if source.state is None and local:
            source.state = (*file.key, str(member), *sorted(options.items()))
        return source if beside is None else sidecar.laid_over(source, beside)
    except BaseException:
        file.close()
        raise


def open_with(
    reader: FormatReader, file: ByteFile, member: int | str | None = None, **options: Any
) -> Source:
    """Open a file with one reader; whatever it stumbles over is a FormatError."""
    known = inspect.signature(reader.open).parameters if options else {}
    for name in options:
        if name not in known:
            raise FormatError(f"{file.name}: {name} means nothing for this format")
    source: Source = _guarded(file, lambda: reader.open(file, member, **options))
    return source


def members_of(path: str | os.PathLike[str]) -> list[Member]:
    """List the rasters inside a file of any known format."""
    file = open_file(path)
    try:
        beside = sidecar.read(file.name)
        if beside is not None and beside.raw is not None:
            raw = beside.raw
            return [Member(1, "", raw.rows, raw.columns, raw.bands, raw.type)]
        found: list[Member] = _guarded(file, lambda: reader_of(file)[1].members(file))
        return found
    finally:
        file.close()


def reader_of(file: ByteFile) -> tuple[str, FormatReader]:
    """Return the format's name and reader. Raises FormatError where none knows the file."""
    probe = Probe(file.head()[:4096], file.name, isinstance(file, FolderFile))
    for name, reader in _readers(probe):
        if reader.matches(probe):
            return name, reader
    _point_to_the_head(file.name)
    head = probe.head
    what = "is empty" if not head else f"begins with {head[:8]!r}, which no known format does"
    if probe.folder:
        raise FormatError(f"{file.name}: is a folder that no known format is kept as; what lies "
                          f"below it is listed by: spectrane survey {file.name}")  # fmt: skip
    raise FormatError(
        f"{file.name}: {what}; known formats: {', '.join(READERS)}; a headerless file can be "
        "described with: spectrane raw"
    )


def _point_to_the_head(name: str) -> None:
    """Raise FormatError, with where to look, for the image of a pair: its head says what it is."""
    found = re.match(r"(.*)\.img(\.gz)?$", name, re.IGNORECASE)
    for ending in (".hdr", ".hdr.gz", ".HDR") if found else ():
        assert found is not None
        if os.path.isfile(found[1] + ending):
            raise FormatError(f"{name}: holds the numbers of a pair and says nothing of them; open "
                              f"its head: {found[1] + ending}")  # fmt: skip


_STARTS: dict[str, str] = {
    "TIFF": r"II[*+]\0|MM\0[*+]", "FITS": "SIMPLE", "PNG": r"\x89PNG", "JPEG": r"\xff\xd8",
    "JPEG 2000": r"\0\0\0\x0cjP|\xff\x4f\xff\x51", "NPY": r"\x93NUMPY", "NPZ": r"PK",
    "HDF5": r"(?s:.*)\x89HDF",
    "NIfTI": r"\x5c\x01\0\0|\0\0\x01\x5c|\x1c\x02\0\0|\0\0\x02\x1c|\x1f\x8b\x08",
    "DICOM": r"(?s:.{128})DICM",
}  # fmt: skip
"""A first glance, so that readers of other formats are not even imported."""
_FOLDERS_TOO = ("DICOM",)


def _readers(probe: Probe) -> Iterator[tuple[str, FormatReader]]:
    for name, path in READERS.items():
        start = _STARTS.get(name)
        folders = start is None or name in _FOLDERS_TOO
        known = start is not None and re.match(start.encode("latin-1"), probe.head)
        likely = (probe.folder and folders) or known
        if likely:
            yield name, _loaded(path)()
    from importlib.metadata import entry_points

    for point in entry_points(group=ENTRY_POINTS):
        yield point.name, point.load()()


def _guarded(file: ByteFile, action: Any) -> Any:
    """Turn what a reader stumbles over into a FormatError that names the file."""
    try:
        return action()
    except (ValueError, IndexError, KeyError, OverflowError, ArithmeticError, TypeError) as error:
        if type(error).__module__.startswith("spectrane"):
            raise
        raise FormatError(f"{file.name}: broken header: {error}") from error


def _loaded(path: str) -> Any:
    module, _, name = path.partition(":")
    return getattr(importlib.import_module(module), name)


def writer_for(path: str | os.PathLike[str]) -> Any:
    """Return the writer that a target's ending names; FormatError lists those there are."""
    name = os.fspath(path).rstrip("/\\").lower()
    ending = ".nii.gz" if name.endswith(".nii.gz") else os.path.splitext(name)[1]
    if ending in (".dcm", ".dicom"):
        raise FormatError(f"{os.fspath(path)}: DICOM is read, not written; write a volume to "
                          ".nii.gz, a picture to .png")  # fmt: skip
    if ending not in WRITERS:
        raise FormatError(
            f"{os.fspath(path)}: cannot write {ending or 'a file without an ending'}; "
            f"known endings: {', '.join(WRITERS)}"
        )
    return _loaded(WRITERS[ending])
