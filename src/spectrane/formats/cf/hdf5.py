"""Grids in HDF5 files, netCDF-4 among them; h5py reads the storage, the meaning is ours."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.files import ByteFile
from spectrane.formats.cf.arrays import Variable
from spectrane.formats.cf.variables import ArraySourceOnDisk, members_of, opened
from spectrane.model.errors import AccessError, FormatError
from spectrane.model.member import Member
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.registry import Probe

_MARK = b"\x89HDF\r\n\x1a\n"
_MOST_ARRAYS = 10000
_LONGEST_ATTRIBUTE = 1 << 16


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
            return members_of(storage.arrays())
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
            try:
                import h5py
            except ImportError as error:
                raise AccessError(
                    f"{self.file.name}: HDF5 needs h5py; install spectrane[storage]"
                ) from error
            self._opened = h5py.File(_handle(self.file), "r")
        return self._opened

    def arrays(self) -> Mapping[str, Variable]:
        """Return all datasets by path."""
        with self._lock:
            if self._arrays is None:
                try:
                    self._arrays = self._listed()
                except (OSError, RuntimeError, ValueError, KeyError, TypeError) as error:
                    if isinstance(error, AccessError | FormatError):
                        raise
                    raise FormatError(f"{self.file.name}: broken HDF5: {error}") from error
            return self._arrays

    def _listed(self) -> dict[str, Variable]:
        root = self._root()
        said = root.attrs.get("Conventions", "")
        said = said.decode("utf-8", "replace") if isinstance(said, bytes) else str(said)
        self.is_netcdf = "_NCProperties" in root.attrs or said.startswith("CF-")
        found: dict[str, Variable] = {}
        self._gather(root, "", found, 0)
        return found

    def _gather(self, group: Any, prefix: str, found: dict[str, Variable], depth: int) -> None:
        import h5py

        for name in group:
            if len(found) >= _MOST_ARRAYS or depth > 32:
                return
            node = group.get(name, getlink=False)
            if isinstance(node, h5py.Group):
                self._gather(node, f"{prefix}{name}/", found, depth + 1)
            elif isinstance(node, h5py.Dataset) and node.shape is not None:
                found[prefix + name] = _variable(prefix + name, node)

    def read(self, name: str, where: tuple[slice, ...]) -> NDArray[Any]:
        """Return a part of a dataset as stored."""
        with self._lock:
            try:
                return np.asarray(self._root()[name][where])
            except (OSError, RuntimeError, ValueError, KeyError) as error:
                if isinstance(error, AccessError | FormatError):
                    raise
                raise FormatError(f"{self.file.name}: {name}: {error}") from error

    def close(self) -> None:
        """Let go of the file; reading again opens it again."""
        with self._lock:
            if self._opened is not None:
                self._opened.close()
                self._opened = None


def _handle(file: ByteFile) -> Any:
    if "://" not in file.name:
        return file.name
    import fsspec

    return fsspec.open(file.name, "rb").open()


def _variable(name: str, node: Any) -> Variable:
    said = {key: value for key in node.attrs if (value := _attribute(node, key)) is not None}
    scales = [
        _scale_name(node, k) or f"dimension {k + 1}" for k in range(len(node.shape))
    ]  # fmt: skip
    return Variable(name, tuple(node.shape), np.dtype(node.dtype), tuple(scales), said, node.chunks)


def _attribute(node: Any, key: str) -> Any:
    if key in ("DIMENSION_LIST", "REFERENCE_LIST", "CLASS", "NAME", "_Netcdf4Dimid",
               "_Netcdf4Coordinates", "_nc3_strict"):  # fmt: skip
        return None
    try:
        value = node.attrs[key]
    except (OSError, TypeError, ValueError):
        return None
    if np.size(value) > _LONGEST_ATTRIBUTE:
        return f"{np.size(value)} values"
    if isinstance(value, bytes | np.bytes_):
        return bytes(value).decode("utf-8", "replace")
    if isinstance(value, np.ndarray) and value.dtype.kind in "SO" and value.size == 1:
        one = value.ravel()[0]
        return one.decode("utf-8", "replace") if isinstance(one, bytes) else str(one)
    if isinstance(value, np.ndarray) and value.size == 1:
        return value.ravel()[0]
    return value


def _scale_name(node: Any, axis: int) -> str | None:
    """Return the name of an axis: its dimension scale's, or its own for a coordinate."""
    if node.attrs.get("CLASS") == b"DIMENSION_SCALE" and len(node.shape) == 1:
        return str(node.name.rsplit("/", 1)[-1])
    try:
        scales = node.dims[axis]
        return str(scales[0].name.rsplit("/", 1)[-1]) if len(scales) else scales.label or None
    except (OSError, RuntimeError, KeyError, ValueError):
        return None
