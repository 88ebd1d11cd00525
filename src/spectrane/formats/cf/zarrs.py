"""Zarr arrays, versions 2 and 3; the zarr library reads the storage, the meaning is ours."""

from __future__ import annotations

import itertools
import json
import os
import posixpath
import warnings
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.folders import Folder, StorageFolder
from spectrane.formats.cf.arrays import Variable
from spectrane.formats.cf.variables import ArraySourceOnDisk, members_in, opened
from spectrane.model.errors import AccessError, FormatError
from spectrane.model.member import Member
from spectrane.model.regular_files import ReadingAs, read_small_text
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

STORE_MARKS = ("zarr.json", ".zgroup", ".zarray", ".zmetadata")
"""Files by which a folder is a Zarr array or group."""
_MOST_ARRAYS = 10000
_LONGEST = 16 << 20


class ZarrReader:
    """A folder that holds a Zarr array or group: every array of two dimensions is a member."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether a folder holds one of Zarr's own files."""
        return probe.folder is not None and is_store(probe.folder)

    def members(self, file: ByteFile) -> list[Member]:
        """List the raster arrays."""
        return members_in(ZarrStorage(file))

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one array, by number or name."""
        return open_zarr(file, member)


def is_store(folder: Folder) -> bool:
    """Tell whether one of Zarr's own files lies in a folder."""
    return any(map(folder.holds, STORE_MARKS))


def open_zarr(file: ByteFile, member: int | str | None = None) -> Source:
    """Open one array of a folder."""
    return opened(file, ZarrStorage(file), member, "Zarr", ZarrSource)


class ZarrSource(ArraySourceOnDisk):
    """One array."""

    def __reduce__(self) -> tuple[Any, ...]:
        return open_zarr, (self.file, self.variable.name)


class ZarrStorage:
    """The arrays of one folder."""

    def __init__(self, file: ByteFile) -> None:
        self.file = file
        self._nodes: dict[str, Any] = {}
        self._arrays: dict[str, Variable] | None = None

    def arrays(self) -> Mapping[str, Variable]:
        """Return all arrays by path."""
        if self._arrays is None:
            try:
                import zarr  # noqa: F401
            except ImportError as error:
                raise AccessError(
                    f"{self.file.name}: Zarr needs the zarr library; install spectrane[storage]"
                ) from error
            with self._reading("broken Zarr"), warnings.catch_warnings():
                warnings.simplefilter("ignore")
                self._nodes = _gather(self.file)
                self._arrays = {name: _variable(name, node) for name, node in self._nodes.items()}
        return self._arrays

    def _reading(self, problem: str) -> ReadingAs:
        return ReadingAs(self.file.name, FormatError, problem=problem)

    def read(self, name: str, where: tuple[slice, ...]) -> NDArray[Any]:
        """Return a part of an array as stored; missing chunks hold its fill value."""
        self.arrays()
        with self._reading(name):
            return np.asarray(self._nodes[name][where])


def _gather(file: ByteFile) -> dict[str, Any]:
    """Open the arrays below a folder, by name; what lies in it and is no part of it is passed over.

    The library's own walk opens all at once, and writes about what it stumbles over.
    """
    import zarr

    store: Any = file.place
    names = _arrays(file.place)
    if isinstance(file, StorageFolder):
        store = zarr.storage.FsspecStore.from_url(file.name, dict(file.options), read_only=True,
                                                  allowed_exceptions=_missing(file))  # fmt: skip
        names = _far_arrays(file)
    return {
        "array" if name == "." else name:
            zarr.open_array(store, path="" if name == "." else name, mode="r")
        for name in itertools.islice(names, _MOST_ARRAYS)
    }  # fmt: skip


def _missing(file: StorageFolder) -> tuple[type[Exception], ...]:
    """Return the errors by which a storage says that it has no file of a name.

    Archives say it by KeyError; from elsewhere that is a failure, not a chunk left out.
    """
    ours = (FileNotFoundError, IsADirectoryError, NotADirectoryError)
    return (*ours, KeyError) if file.in_archive else ours


def _arrays(place: str) -> Iterator[str]:
    for folder, below, files in os.walk(place):
        below.sort()
        if _is_array(files, os.path.join(folder, "zarr.json")):
            below.clear()  # its chunks
            yield os.path.relpath(folder, place).replace(os.sep, "/")


def _far_arrays(file: StorageFolder) -> Iterator[str]:
    heads: dict[str, list[str]] = {}
    for path in file.below():
        folder, _, name = path.rpartition("/")
        if name in STORE_MARKS:
            heads.setdefault(folder or ".", []).append(name)
    for folder, names in heads.items():
        head = file.path_of(posixpath.normpath(f"{folder}/zarr.json"))
        if _is_array(names, head, file.options):
            yield folder


def _is_array(files: Sequence[str], head: str, options: Mapping[str, Any] | None = None) -> bool:
    if "zarr.json" not in files:
        return ".zarray" in files
    text = read_small_text(head, _LONGEST, FormatError, "a Zarr head", options)
    said = json.loads(text)
    return isinstance(said, dict) and said.get("node_type") == "array"


def _variable(name: str, node: Any) -> Variable:
    said = dict(node.attrs)
    names = said.pop("_ARRAY_DIMENSIONS", None) or getattr(node.metadata, "dimension_names", None)
    count = len(node.shape)
    listed = list(names) if names and len(names) == count else [None] * count
    dimensions = tuple(str(n) if n else f"dimension {k + 1}" for k, n in enumerate(listed))
    # Version 2 has a fill value that means "missing"; in 3 it only fills chunks left out.
    fill = node.fill_value if node.metadata.zarr_format == 2 else None
    fill = None if fill is not None and np.asarray(fill).item() == 0 else fill
    dtype = np.dtype(node.dtype) if node.dtype is not None else np.dtype("O")
    return Variable(name, tuple(node.shape), dtype, dimensions, said, tuple(node.chunks), fill)
