"""Datasets packed by filters that HDF5's library lacks."""

from __future__ import annotations

from itertools import product

import h5py
import imagecodecs
import numpy as np

PACKED = {
    307: lambda data, item: imagecodecs.bz2_encode(data),
    32001: lambda data, item: imagecodecs.blosc_encode(data, typesize=item, shuffle=1),
    32015: lambda data, item: imagecodecs.zstd_encode(data),
}
"""What packs a chunk's bytes, by the number of the filter; ``item`` is the size of a number."""


def add_packed(file, name, numbers, chunk, number, *, shuffled=False, pack=None):
    """Add a dataset whose chunks are packed by a filter; ``pack`` is by its number if None."""
    pack = PACKED[number] if pack is None else pack
    said = h5py.h5p.create(h5py.h5p.DATASET_CREATE)
    said.set_chunk(chunk)
    if shuffled:
        said.set_shuffle()
    said.set_filter(number, h5py.h5z.FLAG_OPTIONAL, (3,))
    kept = h5py.h5d.create(file.id, name.encode(), h5py.h5t.py_create(numbers.dtype),
                           h5py.h5s.create_simple(numbers.shape), said)  # fmt: skip
    item = numbers.dtype.itemsize
    for start in product(*(range(0, n, k) for n, k in zip(numbers.shape, chunk, strict=True))):
        part = numbers[tuple(slice(a, a + k) for a, k in zip(start, chunk, strict=True))]
        whole = np.zeros(chunk, numbers.dtype)
        whole[tuple(map(slice, part.shape))] = part
        data = whole.view("u1").reshape(-1, item).T if shuffled else whole
        kept.write_direct_chunk(start, pack(data.tobytes(), item))
