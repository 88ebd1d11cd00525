"""What was found once about a file, kept in the user's cache folder: never beside the data."""

from __future__ import annotations

import contextlib
import json
import os
from typing import Any

_MOST = 2000
"""Files kept; the oldest go first."""


def folder() -> str:
    """Return where findings are kept."""
    import platformdirs

    return os.path.join(platformdirs.user_cache_dir("spectrane", appauthor=False), "statistics")


def recall(key: tuple[Any, ...]) -> Any | None:
    """Return what was kept under a key, or None; a broken entry is none."""
    try:
        with open(_path(key), encoding="utf-8") as file:
            return json.load(file)
    except (OSError, ValueError):
        return None


def keep(key: tuple[Any, ...], found: Any) -> None:
    """Keep something under a key; where the folder cannot be written, nothing is kept."""
    path = _path(key)
    with contextlib.suppress(OSError):
        os.makedirs(os.path.dirname(path), exist_ok=True)
        partial = f"{path}.{os.getpid()}"
        with open(partial, "w", encoding="utf-8") as file:
            json.dump(found, file)
        os.replace(partial, path)
        _forget_oldest(os.path.dirname(path))


def _path(key: tuple[Any, ...]) -> str:
    import hashlib

    return os.path.join(folder(), hashlib.sha256(repr(key).encode()).hexdigest()[:40] + ".json")


def _forget_oldest(where: str) -> None:
    names = os.listdir(where)
    if len(names) > _MOST:
        paths = sorted((os.path.join(where, name) for name in names), key=os.path.getmtime)
        for path in paths[: len(names) - _MOST]:
            os.unlink(path)
