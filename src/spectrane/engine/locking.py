"""One process at a time: who waits says for whom, and a dead holder blocks nobody."""

from __future__ import annotations

import contextlib
import os
import platform
import time
from collections.abc import Iterator
from typing import TYPE_CHECKING

from spectrane.model.errors import AccessError
from spectrane.model.regular_files import reason_of
from spectrane.model.telling import warn_caller

if TYPE_CHECKING:
    import filelock

ENDING = ".spectrane.lock"
_HOLDER = ".holder"
_TOLD_AFTER, _MOST = 1.0, 60.0
"""Seconds until a wait is told, and until it is given up."""


@contextlib.contextmanager
def alone_with(path: str) -> Iterator[None]:
    """Hold a file's lock, which lies beside it, hidden; the system frees it when a process ends.

    Warns (DataWarning) of a wait of more than a second, with the process that is waited for. Raises
    AccessError where it lasts a minute, or where nothing can be written there.
    """
    import filelock

    held = os.path.join(os.path.dirname(path), f".{os.path.basename(path)}{ENDING}")
    lock = filelock.FileLock(held)
    began, told = time.monotonic(), False
    try:
        while True:
            try:
                lock.acquire(timeout=_MOST if told else _TOLD_AFTER)
                if _is_ours(lock, held):
                    break
                lock.release()  # its holder took it away at the end, in between
            except filelock.Timeout:
                if told:
                    raise AccessError(
                        f"{path}: {_holder(held)} holds its lock for "
                        f"{time.monotonic() - began:.0f} seconds; end it, or try again later"
                    ) from None
                warn_caller(f"{path}: waiting for {_holder(held)}, which is changing it")
                told = True
    except OSError as error:
        if isinstance(error, AccessError):
            raise
        raise AccessError(f"{path}: cannot be locked: {reason_of(error)}") from error
    try:
        with contextlib.suppress(OSError), open(held + _HOLDER, "w", encoding="utf-8") as file:
            file.write(f"process {os.getpid()} on {platform.node()}")
        yield
    finally:
        for name in (held + _HOLDER, held):
            with contextlib.suppress(OSError):
                os.unlink(name)
        lock.release()


def _is_ours(lock: filelock.FileLock, held: str) -> bool:
    """Tell whether the file that is locked is the one that others find by its name."""
    file = getattr(getattr(lock, "_context", None), "lock_file_fd", None)
    if not isinstance(file, int):
        return True
    try:
        return os.path.samestat(os.fstat(file), os.stat(held))
    except OSError:
        return False


def _holder(held: str) -> str:
    with (
        contextlib.suppress(OSError, UnicodeDecodeError),
        open(held + _HOLDER, encoding="utf-8") as file,
    ):
        said = file.read(200)
        if said.startswith("process "):
            return said
    return "another process"
