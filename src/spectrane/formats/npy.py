"""NumPy arrays in files: .npy (mapped and read by window) and the arrays of an .npz."""

from __future__ import annotations

import ast
import io
import os
import struct
import zipfile
import zlib
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.inflating import GREATEST_RATIO
from spectrane.engine.memory import DecodedSource
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.flat import FlatLayout, FlatSource
from spectrane.formats.validity import NPY, keeping
from spectrane.model.band import check_band_count, numbered
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.member import Member, find_member
from spectrane.model.source import Source
from spectrane.model.whole_files import written_whole

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

_MAGIC = b"\x93NUMPY"
_LONGEST_HEADER = 1 << 20
_ZIP_FAULTS = (zipfile.BadZipFile, OSError, RuntimeError, ValueError, EOFError, zlib.error)


class NpyReader:
    """One array of two or three dimensions: (rows, columns) or (bands, rows, columns)."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether the first bytes are NumPy's mark."""
        return probe.head.startswith(_MAGIC)

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one array."""
        layout = npy_layout(file.read, file.name)
        return [Member(1, "", layout.rows, layout.columns, layout.bands, layout.native.name)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open the array."""
        find_member(self.members(file), member, file.name)
        source = FlatSource(file, npy_layout(file.read, file.name))
        source.format = "NPY"
        source.metadata = {"compression": "none", "order": str(source.layout.dtype.byteorder)}
        return source


def npy_layout(read: Any, name: str) -> FlatLayout:
    """Read an array's header (NEP 1): ``read(offset, length)`` gives its bytes."""
    start = read(0, 12)
    major = start[6]
    width, code = (2, "<H") if major == 1 else (4, "<L")
    if major not in (1, 2, 3):
        raise FormatError(f"{name}: NPY version {major}; expected 1, 2 or 3")
    (length,) = struct.unpack(code, start[8 : 8 + width])
    if length > _LONGEST_HEADER:
        raise FormatError(f"{name}: its NPY header claims {length} bytes")
    text = read(8 + width, length).decode("latin-1" if major < 3 else "utf-8")
    try:
        header = ast.literal_eval(text)
        dtype, shape = np.dtype(header["descr"]), tuple(int(n) for n in header["shape"])
        fortran = bool(header["fortran_order"])
    except (ValueError, SyntaxError, KeyError, TypeError, MemoryError, RecursionError) as error:
        raise FormatError(f"{name}: its NPY header cannot be read: {error}") from error
    if dtype.hasobject or dtype.kind not in "biuf" or dtype.itemsize > 8:
        raise FormatError(f"{name}: an array of {dtype}; expected integers or floats to 64 bits")
    if len(shape) not in (2, 3) or min(shape) < 1 or max(shape) > 2**40:
        raise FormatError(
            f"{name}: an array of shape {shape}; expected (rows, columns) or (bands, rows, columns)"
        )
    bands, rows, columns = shape if len(shape) == 3 else (1, *shape)
    item = dtype.itemsize
    steps = (rows * columns * item, columns * item, item)
    if fortran:
        steps = (item, bands * item, bands * rows * item)
    return FlatLayout(bands, rows, columns, dtype, 8 + width + length, steps)


class NpzReader:
    """The arrays of an .npz: each of two or three dimensions is a member of its name."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether this is a ZIP file whose first entry is an array."""
        name = probe.head[30 : 30 + int.from_bytes(probe.head[26:28], "little")]
        return probe.head.startswith(b"PK\3\4") and name.endswith(b".npy")

    def members(self, file: ByteFile) -> list[Member]:
        """List the arrays that are rasters."""
        return [member for member, _ in _arrays(file)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one array."""
        arrays = _arrays(file)
        chosen = find_member([one for one, _ in arrays], member, file.name)
        return NpzSource(file, chosen, arrays[chosen.number - 1][1], len(arrays))


def _archive(file: ByteFile) -> zipfile.ZipFile:
    try:
        if file.mapped() is not None:
            return zipfile.ZipFile(file.place)
        return zipfile.ZipFile(io.BytesIO(file.read(0, file.size)))
    except _ZIP_FAULTS as error:
        raise FormatError(f"{file.name}: {error}; expected an .npz") from error


def _arrays(file: ByteFile) -> list[tuple[Member, str]]:
    arrays: list[tuple[Member, str]] = []
    with _archive(file) as archive:
        for info in archive.infolist()[:10000]:
            if not info.filename.endswith(".npy"):
                continue
            try:
                with archive.open(info) as entry:
                    head = entry.read(min(info.file_size, 65536))
                layout = npy_layout(lambda o, n, head=head: head[o : o + n], file.name)
            except (FormatError, struct.error, IndexError, *_ZIP_FAULTS):
                continue  # what is no raster is no member
            name = info.filename.removesuffix(".npy")
            member = Member(len(arrays) + 1, name, layout.rows, layout.columns, layout.bands,
                            layout.native.name)  # fmt: skip
            arrays.append((member, info.filename))
    return arrays


class NpzSource(DecodedSource):
    """One array of an .npz, inflated at the first read."""

    format = "NPZ"

    def __init__(self, file: ByteFile, member: Member, entry: str, members: int) -> None:
        self.file, self.entry, self.name, self.members = file, entry, file.name, members
        self._made_from = (member, entry, members)
        self.key = (file.key, entry)
        self.dtype = np.dtype(member.dtype)
        self.grid = Grid((member.rows, member.columns))
        self.block_shape = self.grid.shape
        check_band_count(f"{self.name}: {entry}", member.bands)
        self.bands = numbered(member.bands)
        self.metadata = {"array": member.name}

    def decode(self) -> tuple[NDArray[Any], NDArray[Any] | None]:
        """Inflate and load the array, never its pickled objects."""
        with _archive(self.file) as archive:
            info = archive.getinfo(self.entry)
            if info.file_size > GREATEST_RATIO * info.compress_size + (1 << 20):
                raise FormatError(f"{self.name}: {self.entry} claims {info.file_size} bytes")
            try:
                raw = archive.read(info)
            except _ZIP_FAULTS as error:
                raise FormatError(f"{self.name}: {self.entry}: {error}") from error
        layout = npy_layout(lambda o, n: raw[o : o + n], self.name)
        if layout.end > len(raw):
            raise FormatError(f"{self.name}: {self.entry} is cut short")
        shape = (layout.bands, layout.rows, layout.columns)
        values = np.ndarray(shape, layout.dtype, raw, layout.offset, layout.steps)
        return np.ascontiguousarray(values.astype(layout.native)), None

    def __reduce__(self) -> tuple[Any, ...]:
        return NpzSource, (self.file, *self._made_from)


def write_npy(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as an array (bands, rows, columns), block by block; the rest is a sidecar.

    Invalid pixels hold the bands' no-data value, NaN in floats without one, and in other integers
    a number that no valid pixel has, which the sidecar declares.
    """
    from spectrane.formats.keeping import put_text, sidecar_text
    from spectrane.formats.sidecar import path_of

    source = keeping(source, NPY)
    shape = (len(source.bands), *source.shape)
    kept = sidecar_text(source)
    with written_whole(target, overwrite=overwrite) as file:
        header = {"descr": np.lib.format.dtype_to_descr(source.dtype), "fortran_order": False,
                  "shape": shape}  # fmt: skip
        np.lib.format.write_array_header_1_0(file, header)
        step = max(1, (8 << 20) // (source.shape[1] * 8))
        for band in range(shape[0]):
            for top in range(0, shape[1], step):
                rows = (top, min(top + step, shape[1]))
                pixels = source.read([band], (rows, (0, shape[2])))
                file.write(np.ascontiguousarray(pixels.values).data)
                progress(band * shape[1] + rows[1], shape[0] * shape[1])
    put_text(path_of(os.fspath(target)), kept or None)
