"""Bytes from anywhere, by range."""

from __future__ import annotations

import contextlib
import itertools
import os
import threading
import weakref
from collections import OrderedDict
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from spectrane.engine.byte_file import HEAD, ByteFile, NotAllowed, Range
from spectrane.kernels.address_space import limited_space
from spectrane.model.addresses import filesystem_of, is_address, is_web
from spectrane.model.errors import AccessError, ChangedFile, SpectraneError
from spectrane.model.regular_files import (
    ReadingAs,
    access_error,
    check_open,
    check_options,
    found_from,
    full_path,
    given_bytes,
    given_name,
    open_regular,
    path_text,
    reason_of,
)

MOST_OPEN = 200
"""Files of this process that are open at once; others rest, and are opened again when read."""
_opened: OrderedDict[int, weakref.ref[LocalFile]] = OrderedDict()
_opened_lock = threading.Lock()


def _make_room(file: LocalFile) -> None:
    """Note a file that was opened; let the oldest one that nobody reads rest."""
    with _opened_lock:
        _opened[id(file)] = weakref.ref(file)
        oldest = list(itertools.islice(_opened.items(), max(0, len(_opened) - MOST_OPEN)))
    for key, reference in oldest:
        old = reference()
        if old is None or old.rest():
            with _opened_lock:
                _opened.pop(key, None)


class LocalFile(ByteFile):
    """A file of this machine, read by position, so that threads need no lock."""

    on_disk = True

    def __init__(self, path: str | os.PathLike[str]) -> None:
        self.name = path_text(path)
        self._place = full_path(self.name)
        self._lock = threading.Lock()
        self._readers = 0
        self._map: memoryview | None = None
        self._file: int | None = None
        self._state = self._open()
        self.size = self._state[0]
        _make_room(self)

    def _open(self) -> tuple[int, int]:
        self._file = open_regular(self._place, self.name)
        status = os.fstat(self._file)
        return status.st_size, status.st_mtime_ns

    @property
    def place(self) -> str:
        """The path in full, as it was at opening: the folder of work may be another by now."""
        return self._place

    @property
    def key(self) -> tuple[Any, ...]:
        """Path, size and time of the last change."""
        return (self._place, *self._state)

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file."""
        with self.reading() as file:
            try:
                return [os.pread(file, length, offset) for offset, length in ranges]
            except OSError as error:
                raise AccessError(f"{self.name}: {reason_of(error)}") from error

    @contextlib.contextmanager
    def reading(self) -> Iterator[int]:
        """Yield the open file, which does not rest meanwhile."""
        with self._lock:
            self._readers += 1
        try:
            yield self._checked()
        finally:
            with self._lock:
                self._readers -= 1

    def rest(self) -> bool:
        """Close the file until it is read again; False where somebody reads it now."""
        if not self._lock.acquire(blocking=False):
            return False
        try:
            if self._readers:
                return False
            file, self._file = self._file, None
            if file is not None:
                os.close(file)
            return True
        finally:
            self._lock.release()

    def _checked(self) -> int:
        opened = False
        with self._lock:
            if self._file is None:
                found = self._open()
                opened = True
            else:
                now = os.fstat(self._file)
                found = (now.st_size, now.st_mtime_ns)
            if found != self._state:
                raise ChangedFile(f"{self.name}: changed after it was opened; open it again")
            assert self._file is not None
            file = self._file
        if opened:
            _make_room(self)
        return file

    def head(self) -> bytes:
        """Return the first 128 kB; not held, since reading them again costs next to nothing."""
        return self.read(0, min(HEAD, self.size))

    def mapped(self) -> memoryview | None:
        """Return the whole file mapped into memory; checked anew that it has not changed.

        None where this process may not take as much address space as it likes (``ulimit -v``): what
        is mapped would be missing for work. None too where the system cannot map it.
        """
        import mmap

        with self.reading() as file:
            if self._map is None and limited_space() is None:
                with contextlib.suppress(OSError, ValueError):
                    self._map = memoryview(mmap.mmap(file, 0, access=mmap.ACCESS_READ))
            return self._map

    @property
    def open(self) -> bool:
        """Whether the file is open just now."""
        return self._file is not None

    def close(self) -> None:
        """Let go of the file; reading again opens it again."""
        self._map = None
        file, self._file = self._file, None
        if file is not None:
            os.close(file)

    def __del__(self) -> None:
        with contextlib.suppress(Exception):
            self.close()

    def __getstate__(self) -> dict[str, Any]:
        # Who unpickles it may be in another folder, or on another machine.
        return {"name": self._place, "_place": self._place, "size": self.size,
                "_state": self._state, "keeps_damaged": self.keeps_damaged}  # fmt: skip

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state, _file=None, _map=None, _lock=threading.Lock(), _readers=0)


class HeldFile(ByteFile):
    """Bytes in memory as a file: a member of an archive, say.

    >>> HeldFile("inside.png", b"abc").read(1, 2)
    b'bc'
    """

    def __init__(self, name: str, data: bytes) -> None:
        self.name, self.size, self._data = name, len(data), data

    @property
    def key(self) -> tuple[Any, ...]:
        """The name and what is held."""
        return (self.name, self.size, hash(self._data))

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file."""
        return [self._data[offset : offset + length] for offset, length in ranges]


class OpenFile(ByteFile):
    """A binary file that somebody has open, read by position; it stays theirs to close.

    >>> import io
    >>> OpenFile(io.BytesIO(b"abc")).read(1, 2)
    b'bc'
    """

    def __init__(self, file: Any) -> None:
        self._file, self._lock = file, threading.Lock()
        self.name = given_name(file)
        try:
            self.size = int(file.seek(0, os.SEEK_END))
        except (OSError, ValueError) as error:
            raise AccessError(f"{self.name}: cannot be read: {reason_of(error)}") from error

    @property
    def key(self) -> tuple[Any, ...]:
        """The object that it is, and its size."""
        return (self.name, id(self._file), self.size)

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file."""
        pieces = []
        with self._lock:
            for offset, length in ranges:
                try:
                    self._file.seek(offset)
                    pieces.append(bytes(self._file.read(length)))
                except (OSError, ValueError) as error:
                    raise AccessError(f"{self.name}: {reason_of(error)}") from error
        return pieces

    def __getstate__(self) -> dict[str, Any]:
        raise TypeError(f"{self.name}: an open file cannot go to another process; open it by its "
                        "path, or give its bytes")  # fmt: skip


def given_file(given: Any) -> ByteFile:
    """Return bytes, or something open that gives bytes, as a file.

    Raises AccessError for what is neither.
    """
    if isinstance(given, bytes | bytearray | memoryview):
        return HeldFile(given_name(given), bytes(given))
    if hasattr(given, "getvalue"):
        return HeldFile(given_name(given), bytes(given.getvalue()))
    check_open(given)
    name = given_name(given)
    with ReadingAs(name, AccessError, problem="cannot be read"):
        if given.seekable():
            return OpenFile(given)
        held = given.read()
    return HeldFile(name, given_bytes(held, name))


class RemoteFile(ByteFile):
    """A file that fsspec can reach (``s3://``, ``memory://``, …), by byte ranges.

    ``options`` are those of its kind of storage: credentials, an end point.
    """

    fetch_size = 16 << 20

    def __init__(self, url: str, options: Mapping[str, Any] | None = None) -> None:
        self.name = url
        self.options: Mapping[str, Any] = dict(options or {})
        self._state = self._look_up()
        self.size = int(self._state["size"])

    def _look_up(self) -> dict[str, Any]:
        filesystem, path = self.storage()
        try:
            details = filesystem.info(path)
        except Exception as error:
            raise access_error_of(self.name, error) from error
        self.is_folder = details.get("type") == "directory"
        if self.is_folder:
            return {"size": "0"}
        if details.get("size") is None:
            raise AccessError(f"{self.name}: the server does not tell the file's size")
        return {name: str(details[name]) for name in ("size", "ETag", "LastModified", "mtime")
                if details.get(name) is not None}  # fmt: skip

    def storage(self) -> tuple[Any, str]:
        """Return fsspec's storage, and the path inside. Raises AccessError."""
        try:
            filesystem, path = filesystem_of(self.name, self.options)
        except SpectraneError:
            raise
        except Exception as error:  # an archive that is not there, or is none
            raise access_error_of(self.name, error) from error
        return filesystem, str(path)

    @property
    def key(self) -> tuple[Any, ...]:
        """Address, size and what the server says of its version."""
        return (self.name, *sorted(self._state.items()))

    def fetch(self, ranges: Sequence[Range]) -> list[bytes]:
        """Return the bytes of ranges inside the file."""
        filesystem, path = self.storage()
        starts = [offset for offset, _ in ranges]
        ends = [offset + length for offset, length in ranges]
        try:
            pieces = filesystem.cat_ranges([path] * len(ranges), starts, ends, on_error="raise")
        except Exception as error:
            raise access_error_of(self.name, error) from error
        return [bytes(piece) for piece in pieces]

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        if self._look_up() != self._state:
            raise ChangedFile(f"{self.name}: changed after it was opened; open it again")


def access_error_of(name: str, error: Exception) -> AccessError:
    """Return what a storage stumbled over as an AccessError that names the file."""
    if isinstance(error, PermissionError):
        return NotAllowed(f"{name}: cannot be read: {reason_of(error)}")
    return access_error(name, error)


def open_bytes(
    path: str | os.PathLike[str], options: Mapping[str, Any] | None = None
) -> ByteFile:  # fmt: skip
    """Return the file at a local path or an fsspec URL; MissingFile, AccessError where none.

    ``options`` are those of the storage that an address names.
    """
    name = path_text(path)
    check_options(name, options)
    if options:
        return RemoteFile(name, options)
    if is_web(name):
        # What a local file does not need is not even loaded.
        from spectrane.engine.http_files import HttpFile

        return HttpFile(name)
    if is_address(name):
        return RemoteFile(name)
    return LocalFile(name.removeprefix("file://"))


def file_beside(file: ByteFile, name: str) -> ByteFile:
    """Open what lies beside a file, in the same storage. Raises MissingFile, AccessError."""
    return open_bytes(found_from(name, file.name), file.options)
