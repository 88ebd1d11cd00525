"""Files that a killed job goes on with: the partial file, and a list of what it holds."""

from __future__ import annotations

import contextlib
import dataclasses
import enum
import hashlib
import json
import os
from collections.abc import Iterator
from typing import Any, BinaryIO

import numpy as np

from spectrane.model.errors import AccessError
from spectrane.model.regular_files import reason_of
from spectrane.model.whole_files import check_target, claimed, followed, partial_name, put_in_place


class Journal:
    """The finished parts of a partial file, one JSON line each, after a line that names the job."""

    def __init__(self, path: str, job: str) -> None:
        self.path, self.job = path, job
        self.records: list[dict[str, Any]] = []
        self._file: Any = None

    def load(self) -> bool:
        """Read the parts an earlier run finished; False where it was another job."""
        try:
            with open(self.path, encoding="utf-8") as file:
                lines = file.read().split("\n")
        except OSError:
            return False
        found = []
        try:
            if json.loads(lines[0]).get("job") != self.job:
                return False
            # The last line may have been cut short by the kill.
            for line in lines[1:]:
                if line:
                    found.append(json.loads(line))
        except (ValueError, AttributeError):
            if not found:
                return False
        self.records = found
        return bool(found)

    def start(self) -> None:
        """Write the list anew: the job and what is known to be finished."""
        self._file = open(self.path, "w", encoding="utf-8")  # noqa: SIM115 - held while writing
        for line in ({"job": self.job}, *self.records):
            self._file.write(json.dumps(line) + "\n")
        self._file.flush()

    def add(self, record: dict[str, Any]) -> None:
        """Note a finished part; its bytes must be in the file already."""
        self.records.append(record)
        self._file.write(json.dumps(record) + "\n")
        self._file.flush()

    def close(self, *, remove: bool) -> None:
        """Stop noting; the list vanishes with the partial file."""
        if self._file is not None:
            self._file.close()
        if remove:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(self.path)


@contextlib.contextmanager
def resumable(
    target: str | os.PathLike[str], job: str, *, overwrite: bool
) -> Iterator[tuple[BinaryIO, Journal]]:
    """Yield a file to write and its journal, with the records of an earlier run of the same job.

    The file gets its name at the end. Where something fails after a part was noted, the partial
    file and its list stay, and the error says that the same command goes on from there.
    """
    path = followed(os.fspath(target))
    check_target(path, overwrite=overwrite)
    partial = partial_name(path)
    journal = Journal(partial + ".parts", job)
    with claimed(path, partial) as file:
        known = journal.load()
        if not known or os.fstat(file.fileno()).st_size < journal.records[-1]["end"]:
            journal.records = []
            file.truncate(0)
        else:
            file.truncate(journal.records[-1]["end"])
            file.seek(journal.records[-1]["end"])
        journal.start()
        try:
            yield file, journal
            check_target(path, overwrite=overwrite)
            put_in_place(file, partial, path)
            journal.close(remove=True)
        except BaseException as error:
            kept = bool(journal.records)
            journal.close(remove=not kept)
            if not kept:
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(partial)
            if isinstance(error, OSError) and not isinstance(error, AccessError):
                more = "; what is finished is kept, and the same command goes on from there"
                raise AccessError(
                    f"{path}: cannot be written: {reason_of(error)}{more if kept else ''}"
                ) from error
            raise


def fingerprint(*things: Any) -> str:
    """Return what tells a job from any other: a digest of all that its objects hold.

    >>> fingerprint({"a": 1}, (2.0, "x")) == fingerprint({"a": 1}, (2.0, "x"))
    True
    """
    digest = hashlib.sha256()
    for piece in _pieces(things, 0, set()):
        digest.update(piece + b"\0")
    return digest.hexdigest()


def _pieces(thing: Any, depth: int, seen: set[int]) -> Iterator[bytes]:
    if thing is None or isinstance(thing, str | bytes | int | float | complex | np.dtype | type):
        yield repr(thing).encode()
    elif isinstance(thing, np.ndarray | np.generic):
        array = np.ascontiguousarray(thing)
        yield f"{array.dtype} {array.shape}".encode()
        yield hashlib.sha256(array.tobytes()).digest()
    elif isinstance(thing, dict):
        for key in sorted(thing, key=repr):
            yield from _pieces(key, depth + 1, seen)
            yield from _pieces(thing[key], depth + 1, seen)
    elif isinstance(thing, list | tuple | set | frozenset | range):
        for one in sorted(thing, key=repr) if isinstance(thing, set | frozenset) else thing:
            yield from _pieces(one, depth + 1, seen)
    elif isinstance(thing, enum.Enum):
        yield repr(thing).encode()
    elif depth < 64 and id(thing) not in seen:
        seen.add(id(thing))
        yield type(thing).__qualname__.encode()
        yield from _held(thing, depth, seen)


def _held(thing: Any, depth: int, seen: set[int]) -> Iterator[bytes]:
    """Yield what an object is made of: what pickling it would keep."""
    if dataclasses.is_dataclass(thing):
        for field in dataclasses.fields(thing):
            if field.compare:
                yield from _pieces(getattr(thing, field.name), depth + 1, seen)
        return
    try:
        _, *made = thing.__reduce_ex__(2)
    except (TypeError, AttributeError):
        return
    yield from _pieces(made[0], depth + 1, seen)
    if len(made) > 1:
        yield from _pieces(made[1], depth + 1, seen)
