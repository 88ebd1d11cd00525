"""Lazy arrays: read in whole blocks, once, and also where somebody else computes them."""

from __future__ import annotations

import pickle

import dask
import dask.array
import numpy as np
import pytest

import spectrane as sp
from spectrane.formats.tiff.source import TiffSource


@pytest.fixture
def tiles(tmp_path, rng):
    values = rng.integers(1, 999, (3, 700, 900)).astype("u2")
    path = tmp_path / "tiles.tif"
    sp.from_array(values).save(path, tile=256, compress="deflate", overviews=False)
    return sp.open(path), values


def test_each_block_is_decoded_once_in_one_graph(tiles, monkeypatch):
    raster, values = tiles
    decoded = []
    before = TiffSource.read_native
    monkeypatch.setattr(TiffSource, "read_native", lambda self, bands, window: (
        decoded.append(window) or before(self, bands, window)))  # fmt: skip
    array = raster.to_dask(chunks=(3, 256, 512))
    assert (array.shape, array.dtype) == (values.shape, values.dtype)
    assert array.chunksize == (3, 256, 512)
    with dask.config.set(scheduler="synchronous"):
        assert int(array.sum().compute()) == int(values.sum())
    assert len(decoded) == len(set(decoded)) == 6
    natural = raster.to_dask().chunks
    assert all(n % 256 == 0 for along in natural[1:] for n in along[:-1])
    for part in (np.s_[1, 10:200:3, ::-1], np.s_[..., 5], np.s_[:0], np.s_[-1:, 3]):
        np.testing.assert_array_equal(array[part].compute(), values[part])


def test_a_graph_goes_to_other_processes(tiles):
    raster, values = tiles
    array = pickle.loads(pickle.dumps(raster.to_dask()))
    np.testing.assert_array_equal(array.compute(), values)


def test_what_is_invalid_is_said_or_asked_for():
    held = np.ma.MaskedArray(np.array([[1, 2], [3, 4]], "u1"), [[0, 1], [0, 0]])
    raster = sp.from_array(held)
    with pytest.raises(sp.ArgumentError, match="fill="):
        raster.to_dask()
    assert raster.to_dask(fill=9).compute().tolist() == [[[1, 9], [3, 4]]]
    floats = sp.from_array(np.array([[1.0, -9.0]]), nodata=-9).to_dask().compute()
    np.testing.assert_array_equal(floats, [[[1.0, np.nan]]])
    for chunks in ("auto", {"z": 3}, (1, 2), 0, (1, 2, 2.5)):
        with pytest.raises(sp.ArgumentError, match="chunks"):
            raster.to_dask(chunks=chunks, fill=0)


def test_dask_arrays_stay_lazy(rng):
    asked = []

    def part(block_info=None):
        asked.append(block_info[None]["chunk-location"])
        return np.full((1, 100, 100), len(asked), "f4")

    array = dask.array.map_blocks(part, chunks=((1, 1), (100,) * 4, (100,) * 4), dtype="f4",
                                  meta=np.empty((0, 0, 0), "f4"))  # fmt: skip
    raster = sp.from_array(array, bands=["a", "b"], nodata=3)
    assert (raster.shape, asked) == ((2, 400, 400), [])
    raster.pixels("b", rows=(0, 50), columns=(120, 180))
    assert asked == [(1, 0, 1)]
    values = rng.normal(size=(64, 80, 2))
    turned = sp.from_array(dask.array.from_array(values, chunks=20), band_axis=-1)
    np.testing.assert_array_equal(turned.pixels(), np.moveaxis(values, -1, 0))
    mean = turned.statistics()["mean"]
    np.testing.assert_allclose(mean, values.mean(axis=(0, 1)))
    volume = sp.volume_from_array(dask.array.from_array(values, chunks=20), affine=np.eye(4))
    np.testing.assert_array_equal(volume.voxels(), values)
    with pytest.raises(sp.MetadataError, match="band_axis"):
        sp.from_array(dask.array.zeros((30, 40, 3)))


def test_loaded_numbers_are_shared_and_others_are_not(tiles):
    raster, values = tiles
    loaded = raster.load()
    shared = np.from_dlpack(loaded)
    np.testing.assert_array_equal(shared, values)
    assert np.shares_memory(shared, np.from_dlpack(loaded))
    with pytest.raises(BufferError, match="load"):
        np.from_dlpack(raster)
    with pytest.raises(BufferError, match="mask"):
        np.from_dlpack(sp.from_array(np.ma.masked_equal([[1, 2]], 2)))
    volume = sp.volume_from_array(np.ones((2, 3, 4), "f4"), affine=np.eye(4))
    assert np.from_dlpack(volume.load()).shape == (1, 2, 3, 4)
