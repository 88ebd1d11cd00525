"""What was found once about a file, kept in the user's cache folder: never beside the data."""

from __future__ import annotations

import contextlib
import json
import os
import random
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

from spectrane.engine.damage import DAMAGE_KEPT
from spectrane.model.settings import settings
from spectrane.model.user_folders import cache_folder
from spectrane.model.window import whole, window_area

if TYPE_CHECKING:
    from spectrane.model.source import Source

T = TypeVar("T")
_MOST = 2000
"""Files kept; the oldest go first."""
WORTH_KEEPING = 250_000
"""Findings about so many pixels and more are kept."""
SETTING = "SPECTRANE_CACHE_MB"
"""The environment variable that bounds the cache, in MB; 0 keeps nothing."""
_MEDICAL = ("DICOM", "NIfTI")


def folder(kind: str = "statistics") -> str:
    """Return where findings of a kind are kept."""
    return os.path.join(settings.cache_folder or cache_folder(), kind)


def limit() -> int:
    """Return the bytes that the cache may have: 1 GB unless the settings say another."""
    return int(settings.cache_mb * 1_000_000)


def may_be_kept(source: Source) -> bool:
    """Tell whether anything found of a source may be kept: its file's state is known, it is of no
    patient, and nothing damaged is left out (which is to be told at each reading).
    """
    if not source.state or DAMAGE_KEPT in source.state:
        return False
    if len(source.shape) != 2 or limit() == 0:
        return False
    return not source.identity and source.format not in _MEDICAL


def worth_keeping(source: Source) -> bool:
    """Tell whether findings about a whole raster are kept: it is large, and may be."""
    return may_be_kept(source) and window_area(whole(source.shape)) >= WORTH_KEEPING


def found_once(key: tuple[Any, ...] | None, find: Callable[[], T]) -> T | Any:
    """Return what is kept under a key as JSON holds it, or find it and keep it; None keeps none."""
    known = None if key is None else recall(key)
    if known is not None:
        return known
    found = find()
    if key is not None:
        keep(key, found)
    return found


def name_of(key: tuple[Any, ...]) -> str:
    """Return the name that a key is kept under.

    A generator takes a text through SHA-512; ``hashlib`` would load OpenSSL, a tenth of a start.
    """
    return f"{random.Random(repr(key)).getrandbits(160):040x}"


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
    return os.path.join(folder(), f"{name_of(key)}.json")


def _forget_oldest(where: str) -> None:
    names = os.listdir(where)
    if len(names) > _MOST:
        paths = sorted((os.path.join(where, name) for name in names), key=os.path.getmtime)
        for path in paths[: len(names) - _MOST]:
            os.unlink(path)
