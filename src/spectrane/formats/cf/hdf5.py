"""Grids in HDF5 files, netCDF-4 among them; h5py reads the storage, the meaning is ours."""

from __future__ import annotations

import math
import threading
from collections.abc import Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.files import ByteFile
from spectrane.engine.sheltered import ChildDiedError, sheltered
from spectrane.formats.cf.arrays import Variable
from spectrane.formats.cf.variables import ArraySourceOnDisk, members_in, opened, warn
from spectrane.model.errors import AccessError, FormatError
from spectrane.model.member import Member
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

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
                try:
                    found = self._listed() if "://" in self.file.name else self._sheltered()
                    self._arrays, self.is_netcdf, elsewhere = found
                except (OSError, RuntimeError, ValueError, KeyError, TypeError) as error:
                    if isinstance(error, AccessError | FormatError):
                        raise
                    raise FormatError(f"{self.file.name}: broken HDF5: {error}") from error
                if elsewhere:
                    warn(
                        self.file.name,
                        f"{elsewhere} of its datasets lie in other files (external "
                        "links, external storage or virtual datasets), which are not followed",
                    )
            return self._arrays

    def _sheltered(self) -> tuple[dict[str, Variable], bool, int]:
        """List the datasets in a child process: the library can crash, or turn for ever, on heaps
        that are broken, and cannot be asked before.
        """
        self.file.read(0, 8)
        _library(self.file.name)  # here, and not in every child
        try:
            return sheltered(self._listed)
        except ChildDiedError as error:
            raise FormatError(f"{self.file.name}: broken HDF5: {error}") from error

    def _listed(self) -> tuple[dict[str, Variable], bool, int]:
        """Return the datasets, whether it is netCDF, and how many datasets lie elsewhere."""
        h5py, root = _library(self.file.name), self._root()
        said = str(_plain_attribute(root, "Conventions") or "")
        netcdf = "_NCProperties" in root.attrs or said.startswith("CF-")
        found: dict[str, Variable] = {}
        self._groups = {h5py.h5o.get_info(root.id).addr}
        self._elsewhere = 0
        self._gather(root, "", found, 0)
        return found, netcdf, self._elsewhere

    def _gather(self, group: Any, prefix: str, found: dict[str, Variable], depth: int) -> None:
        """List the datasets below a group that lie in this file, each under one name.

        What lies elsewhere (external links, external storage, virtual datasets) is not followed:
        a file must not lead to others, nor to a pipe that never answers.
        """
        import h5py

        for name in group:
            if len(found) >= _MOST_ARRAYS or depth > 32:
                return
            link = group.get(name, getlink=True)
            if not isinstance(link, h5py.HardLink):
                # What a soft link names is found under its own name.
                self._elsewhere += isinstance(link, h5py.ExternalLink)
                continue
            node = group.get(name)
            if isinstance(node, h5py.Group):
                address = h5py.h5o.get_info(node.id).addr
                if address not in self._groups:
                    self._groups.add(address)
                    self._gather(node, f"{prefix}{name}/", found, depth + 1)
            elif isinstance(node, h5py.Dataset) and node.shape is not None:
                if node.is_virtual or node.external:
                    self._elsewhere += 1
                else:
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
    return Variable(name, tuple(node.shape), np.dtype(node.dtype), _dimensions(node), said,
                    node.chunks)  # fmt: skip


_OF_THE_STORAGE = ("DIMENSION_LIST", "REFERENCE_LIST", "DIMENSION_LABELS", "CLASS", "NAME",
                   "_Netcdf4Dimid", "_Netcdf4Coordinates", "_nc3_strict")  # fmt: skip


def _attribute(node: Any, key: str) -> Any:
    """Return an attribute of numbers or text; None for others, which are not even read."""
    return None if key in _OF_THE_STORAGE else _plain_attribute(node, key)


def _library(file: str) -> Any:
    """Return h5py, or raise AccessError that says how to come by it."""
    try:
        import h5py
    except ImportError as error:
        raise AccessError(f"{file}: HDF5 needs h5py; install spectrane[storage]") from error
    return h5py


def _plain_attribute(node: Any, key: str) -> Any:
    import h5py

    try:
        attributes = node.attrs
        kept = attributes.get_id(key)
        plain = (h5py.h5t.INTEGER, h5py.h5t.FLOAT, h5py.h5t.STRING, h5py.h5t.ENUM)
        if kept.get_type().get_class() not in plain:
            return None
        if (count := math.prod(kept.shape or ())) > _LONGEST_ATTRIBUTE:
            return f"{count} values"
        value = attributes[key]
    except (OSError, TypeError, ValueError, KeyError, RuntimeError):
        return None
    if isinstance(value, bytes | np.bytes_):
        return bytes(value).decode("utf-8", "replace")
    if isinstance(value, np.ndarray) and value.dtype.kind in "SO":
        texts = [one.decode("utf-8", "replace") if isinstance(one, bytes) else str(one)
                 for one in value.ravel()]  # fmt: skip
        return texts[0] if len(texts) == 1 else np.array(texts)
    if isinstance(value, np.ndarray) and value.size == 1:
        return value.ravel()[0]
    return value


def _dimensions(node: Any) -> tuple[str, ...]:
    """Return the names of a dataset's axes: their scales', else their labels, else numbers.

    The scales are found by the references themselves: the library's own way trusts attributes to
    be what the standard says, and a file may say anything.
    """
    count = len(node.shape)
    kind = _plain_attribute(node, "CLASS")
    if isinstance(kind, str) and kind == "DIMENSION_SCALE" and count == 1:
        return (str(node.name.rsplit("/", 1)[-1]),)
    labels = _plain_attribute(node, "DIMENSION_LABELS")
    given = [str(one) for one in np.atleast_1d(labels if labels is not None else ())]
    given = given if len(given) == count else [""] * count
    return tuple(
        scale or label or f"dimension {k}"
        for k, (scale, label) in enumerate(zip(_scales(node), given, strict=True), 1)
    )


def _scales(node: Any) -> list[str]:
    """Return the name of each axis's first dimension scale; empty where there is none."""
    import h5py

    nothing = [""] * len(node.shape)
    if "DIMENSION_LIST" not in node.attrs:
        return nothing
    try:
        kept = node.attrs.get_id("DIMENSION_LIST")
        inside = h5py.check_vlen_dtype(kept.dtype)
        references = inside is not None and h5py.check_ref_dtype(inside) is h5py.Reference
        if not references or kept.shape != (len(node.shape),):
            return nothing
        found = []
        for listed in node.attrs["DIMENSION_LIST"]:
            scale = node.file[listed[0]] if len(listed) and listed[0] else None
            named = isinstance(scale, h5py.Dataset) and scale.name
            found.append(str(scale.name.rsplit("/", 1)[-1]) if scale is not None and named else "")
        return found
    except (OSError, RuntimeError, KeyError, ValueError, TypeError):
        return nothing
