"""Files that appear whole or not at all: the one way in which anything is written."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator
from typing import BinaryIO

from spectrane.model.addresses import is_address
from spectrane.model.errors import AccessError, ExistingFile
from spectrane.model.log import INFO, log
from spectrane.model.regular_files import kind_of, path_text, reason_of
from spectrane.model.trials import now_trying


@contextlib.contextmanager
def written_whole(
    target: str | os.PathLike[str], *, overwrite: bool, tried: bool = True
) -> Iterator[BinaryIO]:
    """Yield a file to write; it gets its name at the end, and vanishes where something fails.

    In a trial it lies in the scratch folder, unless it is not to be ``tried``.

    Raises ExistingFile where the target is there and ``overwrite`` is false, and AccessError
    where its folder is missing or cannot be written.
    """
    path = followed(path_text(target))
    check_target(path, overwrite=overwrite)
    trial = now_trying() if tried else None
    if trial is not None:
        path, overwrite = trial.place(path), True
    partial = partial_name(path)
    with claimed(path, partial) as file:
        try:
            file.truncate()
            yield file
            check_target(path, overwrite=overwrite)
            put_in_place(file, partial, path)
        except BaseException as error:
            with contextlib.suppress(FileNotFoundError):
                os.unlink(partial)
            if isinstance(error, OSError) and not isinstance(error, AccessError):
                raise AccessError(f"{path}: cannot be written: {reason_of(error)}") from error
            raise


def followed(path: str) -> str:
    """Return what a link stands for, also where that is not there yet; any other path as it is.

    A link is never replaced by what is written under its name. Raises AccessError for a circle.
    """
    if not os.path.islink(path):
        return path
    target = os.path.realpath(path)
    if os.path.islink(target):
        raise AccessError(f"{path}: cannot be written: its links lead round in a circle")
    return target


def put_in_place(file: BinaryIO, partial: str, path: str) -> None:
    """Give a file that is whole its name, so that neither is lost if the machine stops now."""
    file.flush()
    os.fsync(file.fileno())
    os.replace(partial, path)
    log(INFO, "wrote %s", path)
    sync_folder(os.path.dirname(path) or ".")


def sync_folder(folder: str) -> None:
    """Have a folder's names on the disk; where a system cannot do that, do nothing."""
    with contextlib.suppress(OSError):
        opened = os.open(folder, os.O_RDONLY | getattr(os, "O_DIRECTORY", 0))
        try:
            os.fsync(opened)
        finally:
            os.close(opened)


def partial_name(path: str) -> str:
    """Return the name a file is written under until it is whole."""
    return os.path.join(os.path.dirname(path), f".{os.path.basename(path)}.partial")


@contextlib.contextmanager
def claimed(path: str, partial: str) -> Iterator[BinaryIO]:
    """Yield a partial file that no other process writes, with what is in it already."""
    try:
        # Not "wb": until it is claimed, what is in it may be another process's work.
        file = os.fdopen(os.open(partial, os.O_RDWR | os.O_CREAT, 0o666), "w+b")
    except OSError as error:
        raise AccessError(f"{path}: cannot be written: {reason_of(error)}") from error
    with file:
        _claim(file, partial, path)
        yield file


def _claim(file: BinaryIO, partial: str, path: str) -> None:
    """Lock a partial file, or raise where another process is writing or has just renamed it."""
    with contextlib.suppress(ImportError):
        import fcntl

        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            ours = os.path.samestat(os.fstat(file.fileno()), os.stat(partial))
        except (BlockingIOError, FileNotFoundError):
            ours = False
        if not ours:
            raise AccessError(f"{path}: another process is writing it now")


def check_target(path: str, *, overwrite: bool) -> None:
    """Raise where a target cannot be written, before any work is done for it."""
    path = followed(path_text(path))
    if is_address(path):
        raise AccessError(f"{path}: is written to this machine only; name a local file")
    folder = os.path.dirname(path) or "."
    trial = now_trying()
    if trial is not None and os.path.abspath(folder) in trial.folders:
        return
    if not os.path.isdir(folder):
        raise AccessError(f"{path}: there is no folder {folder}; make it first")
    if os.path.isdir(path):
        raise AccessError(f"{path}: is a folder; name a file in it")
    if os.path.exists(path) and (what := kind_of(os.stat(path).st_mode)):
        raise AccessError(f"{path}: is {what}, and cannot be replaced by a file")
    if os.path.exists(path) and not overwrite:
        raise ExistingFile(f"{path}: exists already; overwrite (--overwrite) replaces it")
