"""Grids in HDF5 files, netCDF-4 among them; h5py reads the storage, the meaning is ours."""

from __future__ import annotations

import tempfile
import threading
from collections.abc import Callable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile, Seekable
from spectrane.engine.sheltered import ChildDiedError, sheltered
from spectrane.formats.cf.arrays import Variable
from spectrane.formats.cf.variables import ArraySourceOnDisk, members_in, opened, warn
from spectrane.model.errors import AccessError, FormatError
from spectrane.model.member import Member
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.cf.listing import Listing
    from spectrane.formats.table import Probe

_QUICKLY = 4 << 20
"""Bytes of a file that may cost another second to list."""
_MARK = b"\x89HDF\r\n\x1a\n"


class Hdf5Reader:
    """HDF5 and netCDF-4: every dataset of two dimensions or more is a member."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether HDF5's mark stands at the start, or after a user block."""
        places = (0, 512, 1024, 2048)
        return any(probe.head[k : k + 8] == _MARK for k in places)

    def members(self, file: ByteFile) -> list[Member]:
        """List the raster datasets."""
        storage = Hdf5Storage(file)
        try:
            return members_in(storage)
        finally:
            storage.close()

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open one dataset, by number or name."""
        return open_hdf5(file, member)


def open_hdf5(file: ByteFile, member: int | str | None = None) -> Source:
    """Open one dataset; the file is told as netCDF-4 where it says so of itself."""
    storage = Hdf5Storage(file)
    kind = "netCDF-4" if storage.is_netcdf else "HDF5"
    return opened(file, storage, member, kind, Hdf5Source)


class Hdf5Source(ArraySourceOnDisk):
    """One dataset."""

    def __reduce__(self) -> tuple[Any, ...]:
        return open_hdf5, (self.file, self.variable.name)


class Hdf5Storage:
    """The datasets of one file; h5py is used by one thread at a time."""

    def __init__(self, file: ByteFile) -> None:
        self.file = file
        self._lock = threading.Lock()
        self._opened: Any = None
        self._arrays: dict[str, Variable] | None = None
        self.is_netcdf = False
        self.arrays()

    def _root(self) -> Any:
        self.file.read(0, 8)  # notices a file that has changed
        if self._opened is None:
            self._opened = _library(self.file.name).File(_handle(self.file), "r")
        return self._opened

    def arrays(self) -> Mapping[str, Variable]:
        """Return all datasets by path."""
        with self._lock:
            if self._arrays is None:
                elsewhere = 0
                with self._reading("broken HDF5"):
                    self._arrays, self.is_netcdf, elsewhere = self._listed()
                if elsewhere:
                    warn(
                        self.file.name,
                        f"{elsewhere} of its datasets lie in other files (external "
                        "links, external storage or virtual datasets), which are not followed",
                    )
            return self._arrays

    def _listed(self) -> Listing:
        """List the datasets in a child process: the library can crash, or turn for ever, on heaps
        that are broken, and cannot be asked before.
        """
        self.file.read(0, 8)
        h5py = _library(self.file.name)
        from spectrane.formats.cf.listing import listed, listed_at  # here, not in every child

        if "://" in self.file.name:
            return listed(self._root())
        if not self.file.on_disk:  # bytes in memory: as wary of them as of a file
            with tempfile.NamedTemporaryFile(suffix=".h5") as copy:
                copy.write(self.file.read(0, self.file.size))
                copy.flush()
                return self._sheltered(h5py, listed_at, copy.name)
        return self._sheltered(h5py, listed_at, self.file.place)

    def _sheltered(self, h5py: Any, listed_at: Callable[[str], Listing], place: str) -> Listing:
        try:
            # The library knows an open file again: a child would see it as it was at its start.
            opened_here = h5py.h5f.get_obj_count(h5py.h5f.OBJ_ALL, h5py.h5f.OBJ_FILE)
            work = 1 + self.file.size // _QUICKLY
            return sheltered(listed_at, place, again=not opened_here, work=work)
        except ChildDiedError as error:
            raise FormatError(f"{self.file.name}: broken HDF5: {error}") from error

    def read(self, name: str, where: tuple[slice, ...]) -> NDArray[Any]:
        """Return a part of a dataset as stored."""
        with self._lock, self._reading(name):
            h5py, root = _library(self.file.name), self._root()
            from spectrane.formats.cf.chunks import chunks_of  # here: it imports the library

            # By the lower level: by name the library looks at every node twice.
            dataset = h5py.Dataset(h5py.h5d.open(root.id, name.encode()))
            chunks = chunks_of(dataset, self.file.name)
            return np.asarray(dataset[where]) if chunks is None else chunks.read(where)

    def _reading(self, problem: str) -> ReadingAs:
        return ReadingAs(self.file.name, FormatError, problem=problem)

    def close(self) -> None:
        """Let go of the file; reading again opens it again."""
        with self._lock:
            if self._opened is not None:
                self._opened.close()
                self._opened = None


def _handle(file: ByteFile) -> Any:
    if file.on_disk:
        return file.place
    import io

    return io.BufferedReader(Seekable(file))


def _library(file: str) -> Any:
    """Return h5py, or raise AccessError that says how to come by it."""
    try:
        import h5py
    except ImportError as error:
        raise AccessError(f"{file}: HDF5 needs h5py; install spectrane[storage]") from error
    return h5py
