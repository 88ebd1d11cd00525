"""Folders, on this machine or in a storage: what lies in them, and files opened from them."""

from __future__ import annotations

import contextlib
import os
import posixpath
from collections.abc import Iterable, Sequence
from typing import Any

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.files import LocalFile, RemoteFile, access_error_of
from spectrane.model.addresses import address_parts, is_address
from spectrane.model.regular_files import full_path, open_regular

_QUICKLY = 20_000
"""Files whose times are looked up at an opening: a tenth of a second."""
FAR_AT_ONCE = 16
"""So many files of a storage are opened at once: each waits for its server."""


class Folder(ByteFile):
    """A folder, which may be one raster file; it has no bytes of its own."""

    size = 0
    is_folder = True
    at_once: int = 1
    """How many threads may well open files in it."""

    def head(self) -> bytes:
        """Return nothing."""
        return b""

    def holds(self, name: str) -> bool:
        """Tell whether a file of this name lies in it. Raises AccessError."""
        raise NotImplementedError

    def names(self) -> list[str]:
        """Return the files that lie right in it, sorted, without hidden ones."""
        raise NotImplementedError

    def bytes_below(self) -> int:
        """Return how many bytes the files in it and below have. Raises AccessError."""
        raise NotImplementedError

    def path_of(self, name: str) -> str:
        """Return the path or address of what lies in it."""
        raise NotImplementedError

    def inside(self, name: str) -> ByteFile:
        """Open a file that lies in it. Raises AccessError."""
        raise NotImplementedError

    def starts(self, names: Sequence[str], count: int) -> Iterable[bytes]:
        """Yield at most so many first bytes of files in it; none of what cannot be read."""
        raise NotImplementedError


class LocalFolder(Folder):
    """A folder of this machine."""

    def __init__(self, name: str) -> None:
        self.name = name.rstrip("/" + os.sep) or name  # what is kept with it lies beside it
        self._place = full_path(self.name)

    @property
    def place(self) -> str:
        """The path in full."""
        return self._place

    @property
    def key(self) -> tuple[Any, ...]:
        """Path and time of the last change."""
        return (self._place, os.stat(self._place).st_mtime_ns)

    def lasting_key(self) -> tuple[Any, ...] | None:
        """Return the path, and how many files lie below, of how many bytes, the newest of when.

        A file that is written anew in place leaves its folder's time as it was.
        """
        count = total = newest = 0
        with contextlib.suppress(OSError):  # it is being changed
            for found in map(os.lstat, self._below()):
                count, total = count + 1, total + found.st_size
                newest = max(newest, found.st_mtime_ns)
                if count > _QUICKLY:
                    return None
            return (self._place, count, total, newest)
        return None

    def _below(self) -> Iterable[str]:
        return (os.path.join(folder, name) for folder, _, names in os.walk(self._place)
                for name in names)  # fmt: skip

    def __getstate__(self) -> dict[str, Any]:
        return self.__dict__ | {"name": self._place}

    def holds(self, name: str) -> bool:
        """Tell whether a file of this name lies in it."""
        return os.path.isfile(os.path.join(self._place, name))

    def names(self) -> list[str]:
        """Return the files that lie right in it, sorted, without hidden ones."""
        with os.scandir(self._place) as entries:
            return sorted(one.name for one in entries
                          if one.is_file() and not one.name.startswith("."))  # fmt: skip

    def bytes_below(self) -> int:
        """Return how many bytes the files in it and below have."""
        return sum(os.lstat(path).st_size for path in self._below())

    def path_of(self, name: str) -> str:
        """Return the path of what lies in it."""
        return os.path.join(self.name, name)

    def inside(self, name: str) -> ByteFile:
        """Open a file that lies in it. Raises MissingFile, AccessError."""
        return LocalFile(self.path_of(name))

    def starts(self, names: Sequence[str], count: int) -> Iterable[bytes]:
        """Yield at most so many first bytes of files in it; none of what cannot be read."""
        return (self._start(name, count) for name in names)

    def _start(self, name: str, count: int) -> bytes:
        with contextlib.suppress(OSError):
            path = os.path.join(self._place, name)
            with os.fdopen(open_regular(path), "rb", buffering=0) as file:
                return file.read(count)
        return b""


class StorageFolder(RemoteFile, Folder):
    """A folder in a storage that fsspec can reach."""

    at_once = FAR_AT_ONCE

    @property
    def in_archive(self) -> bool:
        """Whether the storage is an archive: ``zip://``, ``tar://``."""
        from fsspec.archive import AbstractArchiveFileSystem

        return isinstance(self.storage()[0], AbstractArchiveFileSystem)

    def holds(self, name: str) -> bool:
        """Tell whether a file of this name lies in it. Raises AccessError."""
        filesystem, path = self.storage()
        try:
            return bool(filesystem.isfile(_joined(path, name)))
        except Exception as error:
            raise access_error_of(self.name, error) from error

    def names(self) -> list[str]:
        """Return the files that lie right in it, sorted, without hidden ones."""
        return [name for name in self.below(depth=1) if not name.startswith(".")]

    def below(self, depth: int | None = None) -> list[str]:
        """Return the files in it and below, sorted, named from it. Raises AccessError."""
        path = self.storage()[1].strip("/")
        start = len(path) + 1 if path else 0
        return sorted(name.lstrip("/")[start:] for name in self._sizes(depth))

    def bytes_below(self) -> int:
        """Return how many bytes the files in it and below have. Raises AccessError."""
        return sum(size or 0 for size in self._sizes().values())

    def _sizes(self, depth: int | None = None) -> dict[str, int | None]:
        filesystem, path = self.storage()
        try:
            found = filesystem.find(path, maxdepth=depth, detail=True)
        except Exception as error:
            raise access_error_of(self.name, error) from error
        return {name: details.get("size") for name, details in found.items()}

    def path_of(self, name: str) -> str:
        """Return the address of what lies in it."""
        scheme, inner, chain = address_parts(self.name)
        folder = f"{inner.rstrip('/')}/" if inner.strip("/") else ""
        return f"{scheme}{folder}{name}{chain}"

    def inside(self, name: str) -> ByteFile:
        """Open a file that lies in it. Raises MissingFile, AccessError."""
        return RemoteFile(self.path_of(name), self.options)

    def starts(self, names: Sequence[str], count: int) -> Iterable[bytes]:
        """Return at most so many first bytes of files in it, asked for together."""
        filesystem, path = self.storage()
        paths = [_joined(path, name) for name in names]
        try:
            found = filesystem.cat_ranges(paths, 0, count, on_error="return")
        except Exception as error:
            raise access_error_of(self.name, error) from error
        return [b"" if isinstance(one, Exception) else bytes(one) for one in found]


def _joined(path: str, name: str) -> str:
    """Return a path inside a storage; at its root some take none that begins with a /."""
    return f"{path.rstrip('/')}/{name}" if path.strip("/") else name


def folder_around(file: ByteFile) -> Folder | None:
    """Return the folder that a file lies in; None of bytes, and where none can be listed."""
    if isinstance(file, LocalFile):
        return LocalFolder(os.path.dirname(file.name) or ".")
    if isinstance(file, RemoteFile) and is_address(file.name):
        scheme, inner, chain = address_parts(file.name)
        return StorageFolder(f"{scheme}{posixpath.dirname(inner)}{chain}", file.options)
    return None
