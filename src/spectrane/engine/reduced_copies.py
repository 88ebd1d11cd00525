"""Reduced copies of large rasters in the user's cache: the first look pays, later ones are quick.

What a whole image without overviews came to at the size of a picture is kept as it was read, and
only answers the same question again: these bands, this size, this state of the file and this rule
of no-data. Never of medical files. The least recently used go first when there is too much.
"""

from __future__ import annotations

import contextlib
import os
from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.engine.remembered import folder, limit, may_be_kept, name_of
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, whole, window_area

LARGE = 4 << 20
"""Pixels of a raster that is worth it."""
_SIDE = 2048
_VERSION = "reduced 1"


def read_or_recalled(
    source: Source, bands: Sequence[int], window: Window, size: tuple[int, ...] | None, method: str
) -> Pixels:
    """Return a window at a size, as ``source.read`` does; of a whole image perhaps from the cache.

    What is read anew, and took a full pass, is kept there.
    """
    key = None if size is None else _key(source, bands, window, size, method)
    known = None if key is None else _recall(key)
    if known is not None:
        return known
    pixels = source.read(bands, window, size, method)
    if key is not None:
        _keep(key, pixels)
    return pixels


def _key(
    source: Source, bands: Sequence[int], window: Window, size: tuple[int, ...], method: str
) -> tuple[Any, ...] | None:
    """Return what a reduced copy depends on; None where none is kept."""
    full = whole(source.shape)
    if method not in ("area", "majority") or window != full or not may_be_kept(source):
        return None
    if window_area(full) < LARGE or max(size) > _SIDE or tuple(size) == extent(window):
        return None
    if any(all(n >= m for n, m in zip(shape, size, strict=True)) for shape in source.overviews):
        return None  # it has its own, which is as quick
    rules = [repr(source.bands[band].nodata) for band in bands]
    return (_VERSION, source.state, source.nodata_when, source.alpha, source.has_mask, rules,
            list(bands), list(size), method)  # fmt: skip


def _recall(key: tuple[Any, ...]) -> Pixels | None:
    place = os.path.join(folder("reduced"), name_of(key))
    try:
        values = np.load(os.path.join(place, "values.npy"), mmap_mode="c", allow_pickle=False)
        paths = {name: os.path.join(place, f"{name}.npy") for name in ("mask", "alpha")}
        more = {name: np.load(path, allow_pickle=False)
                for name, path in paths.items() if os.path.exists(path)}  # fmt: skip
        os.utime(place)
    except (OSError, ValueError, EOFError):
        return None
    if values.shape[0] != len(key[6]) or list(values.shape[1:]) != key[7]:
        return None
    return Pixels(values, mask=more.get("mask"), alpha=more.get("alpha"))


def _keep(key: tuple[Any, ...], pixels: Pixels) -> None:
    """Keep pixels under a key, whole or not at all; where the folder cannot be written, nothing."""
    import shutil

    where = folder("reduced")
    place = os.path.join(where, name_of(key))
    partial = f"{place}.{os.getpid()}"
    parts = {"values": pixels.values, "mask": _told(pixels), "alpha": pixels.alpha}
    size = sum(part.nbytes for part in parts.values() if part is not None)
    if size > limit():
        return
    with contextlib.suppress(OSError):
        os.makedirs(partial, exist_ok=True)
        for name, part in parts.items():
            if part is not None:
                np.save(os.path.join(partial, f"{name}.npy"), part, allow_pickle=False)
        if os.path.isdir(place):
            shutil.rmtree(place, ignore_errors=True)
        os.rename(partial, place)
        forget_oldest(where, limit())
    shutil.rmtree(partial, ignore_errors=True)


def _told(pixels: Pixels) -> Any:
    """Return the validity where anything is invalid, as one mask."""
    if pixels.mask is not None and not pixels.rules:
        return np.asarray(pixels.mask)
    valid = pixels.validity
    return None if valid.all() else np.ascontiguousarray(valid)


def forget_oldest(where: str, most: int) -> None:
    """Remove the least recently used copies until all together have at most so many bytes."""
    import shutil

    found = []
    with os.scandir(where) as entries:
        for entry in entries:
            if entry.is_dir():
                held = sum(one.stat().st_size for one in os.scandir(entry.path))
                found.append((entry.stat().st_mtime_ns, entry.path, held))
    total = sum(held for _, _, held in found)
    for _, path, held in sorted(found):
        if total <= most:
            return
        shutil.rmtree(path, ignore_errors=True)
        total -= held
