"""Chunks of an HDF5 dataset, unpacked by several threads: the library unpacks with one, and lacks
some of the filters that netCDF names.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import h5py
import numpy as np
from numpy.typing import NDArray

from spectrane.engine.damage import REMEDY
from spectrane.engine.threads import in_parallel
from spectrane.formats.cf.filters import BrokenChunkError, Bytes, Filters
from spectrane.model.errors import FormatError
from spectrane.model.window import (
    Window,
    block_seen,
    blocks_touching,
    extent,
    relative,
)

_WORTH_IT = range(16 << 10, 64 << 20)
"""Bytes of a chunk: of smaller ones the library is quicker, and each thread holds two of them."""


def chunks_of(dataset: h5py.Dataset, owner: str) -> Chunks | None:
    """Return the chunks of a dataset of a file; None where the library is to read it all.

    That is: where nothing is packed, where it is packed otherwise than ``Filters`` knows, and
    where numbers are not stored as they are in memory. Raises FormatError for a filter that
    neither knows.
    """
    said, kind = dataset.id.get_create_plist(), dataset.dtype
    if dataset.chunks is None or kind.kind not in "iuf" or not said.get_nfilters():
        return None
    given = [said.get_filter(k) for k in range(said.get_nfilters())]
    size = math.prod(dataset.chunks) * kind.itemsize
    filters = Filters([(code, values[0] if values else 0) for code, _, values, _ in given], size)
    lacking = [(code, name) for code, _, _, name in given if not h5py.h5z.filter_avail(code)]
    if not filters.known or not dataset.id.get_type().equal(h5py.h5t.py_create(kind)):
        if lacking:
            raise FormatError(f"{owner}: {dataset.name}: {_unknown(*lacking[0])}")
        return None
    alone = bool(lacking)
    return Chunks(dataset, owner, filters, alone) if alone or size in _WORTH_IT else None


def _unknown(code: int, name: bytes) -> str:
    said = f" ({name.decode('utf-8', 'replace')[:40]})" if name else ""
    return (f"is packed by filter {code}{said}, which cannot be undone here; those of the library, "
            "bzip2, blosc and zstandard can: pack it by one of these")  # fmt: skip


class Chunks:
    """The chunks of one dataset; ``alone`` says that the library could not unpack them."""

    def __init__(self, dataset: h5py.Dataset, owner: str, filters: Filters, alone: bool) -> None:
        self._dataset, self._owner, self._filters, self._alone = dataset, owner, filters, alone
        self._shape, self._chunk, self._dtype = dataset.shape, dataset.chunks, dataset.dtype
        self._bytes = math.prod(self._chunk) * self._dtype.itemsize

    def read(self, where: tuple[slice, ...]) -> NDArray[Any]:
        """Return a part of the dataset as stored. Raises FormatError for a broken chunk."""
        window = tuple(one.indices(length)[:2] for one, length in
                       zip(where, self._shape, strict=True))  # fmt: skip
        touched = blocks_touching(window, self._chunk)
        if len(touched) < 2 and not self._alone:
            return np.asarray(self._dataset[where])
        out = np.empty(extent(window), self._dtype)

        def unpacking() -> Callable[[int], None]:
            packed = np.empty(self._bytes + self._bytes // 8 + 4096, np.uint8)
            room = self._filters.room()

            def unpack(which: int) -> None:
                block, part = block_seen(touched[which], self._chunk, self._shape, window)
                out[relative(part, window)] = self._part(block, part, packed, room)

            return unpack

        in_parallel(range(len(touched)), unpacking)
        return out

    def _part(self, block: Window, part: Window, packed: Bytes, room: list[Bytes]) -> NDArray[Any]:
        start = tuple(first for first, _ in block)
        try:
            left_out, data = self._dataset.id.read_direct_chunk(start, out=packed)
        except (OSError, RuntimeError, ValueError):
            # Not written, so that it holds the fill value; or the library knows what is wrong.
            return self._by_library(part)
        if extent(block) != self._chunk and len(data) == self._bytes:
            return self._by_library(part)  # at an edge it may stand unpacked, and nothing says so
        try:
            content = self._filters.undone(data, left_out, room)
        except BrokenChunkError as error:
            raise FormatError(
                f"{self._owner}: {self._dataset.name}: the chunk at {start}: {error}; the file is "
                f"damaged there{REMEDY}"
            ) from error
        cube: NDArray[Any] = content.view(self._dtype).reshape(self._chunk)
        return cube[relative(part, block)]

    def _by_library(self, part: Window) -> NDArray[Any]:
        return np.asarray(self._dataset[tuple(slice(*ends) for ends in part)])
