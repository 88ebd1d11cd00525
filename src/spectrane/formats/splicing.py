"""Changing a stretch of bytes of a file, whole or not at all."""

from __future__ import annotations

import base64
import os
import shutil
from collections.abc import Callable
from typing import Any

from spectrane.model.whole_files import written_whole

_AT_A_TIME = 8 << 20


def splice(
    path: str, start: int, length: int, new: bytes,
    note: Callable[[dict[str, Any]], None] = lambda step: None,
) -> dict[str, Any]:  # fmt: skip
    """Replace ``length`` bytes at ``start`` by others: a new file is written and takes the name.

    Returns how to undo it; ``note`` is told the same before the new file takes the name.
    """
    before = os.path.getsize(path)
    mode = os.stat(path).st_mode
    with open(path, "rb") as old_file:
        old_file.seek(start)
        old = old_file.read(length)
        step = {
            "kind": "splice", "start": start, "length": len(new),
            "old": base64.b64encode(old).decode(), "size_before": before,
            "size_after": before - length + len(new),
        }  # fmt: skip
        old_file.seek(0)
        with written_whole(path, overwrite=True) as file:
            left = start
            while left:
                part = old_file.read(min(left, _AT_A_TIME))
                file.write(part)
                left -= len(part)
            file.write(new)
            old_file.seek(start + length)
            shutil.copyfileobj(old_file, file, _AT_A_TIME)
            os.fchmod(file.fileno(), mode & 0o777)
            note(step)
    return step
