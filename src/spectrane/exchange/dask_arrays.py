"""Dask arrays of sources, along the blocks that their files have."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from typing import Any, Literal, TypeAlias

import numpy as np

from spectrane.exchange.filled import SourceArray, checked_fill
from spectrane.exchange.libraries import library
from spectrane.model.errors import ArgumentError
from spectrane.model.source import Source

Chunks: TypeAlias = 'Literal["blocks"] | int | Sequence[int] | Mapping[str, int]'
"""``blocks``: along the file's own; a length for each axis, or by the axes' names."""
_TOGETHER = 4_000_000
"""Blocks are taken together up to so many numbers: a task costs as much as a small block."""


def to_dask(source: Source, chunks: Chunks = "blocks", *, fill: float | None = None) -> Any:
    """Return a Dask array (bands, axes…) of stored numbers; nothing is read before it computes."""
    return dask_array(SourceArray(checked_fill(source, fill), fill=fill), chunks)


def dask_array(array: SourceArray, chunks: Chunks) -> Any:
    """Return a Dask array over a source's numbers; each chunk is read by one task."""
    dask = library("dask.array", "array")
    lengths = chunk_lengths(array.source, chunks)
    meta = np.empty((0,) * array.ndim, array.dtype)
    return dask.from_array(array, chunks=lengths, name=False, lock=False, fancy=False, meta=meta)


def chunk_lengths(source: Source, chunks: Chunks) -> tuple[int, ...]:
    """Return the length of chunks along bands and axes. Raises ArgumentError for what is none."""
    names = ("band", "y", "x") if len(source.shape) == 2 else ("frame", "i", "j", "k")
    natural = _natural(source)
    shape = (len(source.bands), *source.shape)
    if isinstance(chunks, str):
        if chunks != "blocks":
            raise ArgumentError(f"chunks {chunks!r}: expected 'blocks', or lengths")
        return natural
    if isinstance(chunks, Mapping):
        unknown = sorted(set(chunks) - set(names))
        if unknown:
            raise ArgumentError(f"chunks: no axis {unknown[0]!r}; the axes are {', '.join(names)}")
        given = [chunks.get(name, own) for name, own in zip(names, natural, strict=True)]
    else:
        given = [natural[0], *[chunks] * len(source.shape)] if isinstance(chunks, int) else (
            list(chunks))  # fmt: skip
    if len(given) != len(shape) or not all(
        isinstance(n, int) and (n > 0 or n == -1) for n in given
    ):
        raise ArgumentError(f"chunks {chunks!r}: expected a length for each of {', '.join(names)}")
    return tuple(n if m == -1 else min(m, n) for m, n in zip(given, shape, strict=True))


def _natural(source: Source) -> tuple[int, ...]:
    """Return whole blocks of all bands, as many as a task is worth, the last axis first."""
    lengths = [min(block, n) for block, n in zip(source.block_shape, source.shape, strict=True)]
    bands = len(source.bands)
    if bands * math.prod(lengths) > 4 * _TOGETHER:
        bands = 1
    for axis in reversed(range(len(lengths))):
        room = _TOGETHER // (bands * math.prod(lengths))
        lengths[axis] = min(lengths[axis] * max(1, room), source.shape[axis])
    return (bands, *lengths)
