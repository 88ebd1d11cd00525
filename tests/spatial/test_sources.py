"""Parts of sources and sources described anew: one window, nothing read, the same numbers."""

from __future__ import annotations

import pickle

import numpy as np
import pytest
from tests.conftest import natural, values_of

from spectrane.engine.memory import ArraySource, loaded
from spectrane.formats.registry import open_source
from spectrane.formats.tiff.writer import write_tiff
from spectrane.model.band import Band
from spectrane.model.errors import BandError, GridMismatch, LookError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.window import whole, window_area
from spectrane.spatial.described import with_bands, with_nodata
from spectrane.spatial.extract import pixels
from spectrane.spatial.subset import Subset

BANDS = (Band("a", "red", nodata=0), Band("b", "green", nodata=0), Band("c", "blue", nodata=0))


class Watched(ArraySource):
    """Remembers the windows it was read at."""

    def __init__(self, *args, **kwargs):
        super().__init__(*args, **kwargs)
        self.reads = []

    def read(self, bands, window, size=None, resample="nearest"):
        self.reads.append((list(bands), window))
        return super().read(bands, window, size, resample)


@pytest.fixture
def watched(rng, utm):
    return Watched(natural(rng, (3, 70, 90), "u2"), grid=utm, bands=BANDS)


def test_a_part_of_a_part_keeps_one_window_and_reads_nothing(watched):
    first = Subset(watched, [2, 0], ((10, 60), (20, 80)))
    second = Subset(first, [1], ((5, 25), (10, 30)))
    assert second.parent is watched
    assert (second.indices, second.window) == ((0,), ((15, 35), (30, 50)))
    assert watched.reads == []
    got = second.read([0], ((1, 3), (2, 6)))
    assert watched.reads == [([0], ((16, 18), (32, 36)))]
    np.testing.assert_array_equal(got.values[0], values_of(watched)[0, 16:18, 32:36])
    assert second.grid.center(row=0, column=0) == watched.grid.center(row=15, column=30)
    with pytest.raises(GridMismatch, match="the raster has rows 0 to 20"):
        second.read([0], ((0, 21), (0, 5)))


def kinds(tmp_path, rng, utm):
    """Yield every kind of source with the array and validity it stands for."""
    array = natural(rng, (3, 70, 90), "u2")
    array[:, 5:9, 11:40] = 0
    valid = array != 0
    plain = ArraySource(array, grid=utm, bands=BANDS)
    yield "array", plain, array, valid
    write_tiff(plain, tmp_path / "a.tif")
    yield "TIFF", open_source(tmp_path / "a.tif"), array, valid
    yield "part", Subset(plain, [2, 0], ((3, 66), (2, 81))), array[[2, 0], 3:66, 2:81], valid[
        [2, 0], 3:66, 2:81]  # fmt: skip
    yield "described", with_nodata(plain, {2: 77}), array, np.stack(
        [valid[0], array[1] != 77, valid[2]])  # fmt: skip
    yield "loaded", loaded(plain), array, valid


def test_every_source_keeps_the_contract(tmp_path, rng, utm):
    for name, source, array, valid in kinds(tmp_path, rng, utm):
        bands = list(range(len(source.bands)))
        assert source.shape == array.shape[1:], name
        everything = source.read(bands, whole(source.shape))
        np.testing.assert_array_equal(everything.values, array)
        np.testing.assert_array_equal(np.broadcast_to(everything.valid, array.shape), valid)
        part = source.read([1], ((4, 31), (7, 55)))
        np.testing.assert_array_equal(part.values[0], array[1, 4:31, 7:55])
        gathered, seen = np.zeros_like(array[:, :50, :60]), 0
        for window, block in source.blocks(bands, ((0, 50), (0, 60))):
            gathered[(slice(None), *(slice(*pair) for pair in window))] = block.values
            seen += window_area(window)
        np.testing.assert_array_equal(gathered, array[:, :50, :60])
        assert seen == 3000, name  # each pixel once
        again = pickle.loads(pickle.dumps(source))
        np.testing.assert_array_equal(again.read(bands, whole(again.shape)).values, array)
        with pytest.raises(BandError):
            source.read([len(bands)], whole(source.shape))
        with pytest.raises(GridMismatch):
            source.read([0], ((-1, 5), (0, 5)))


def test_crop_then_read_is_read_then_crop(tmp_path, rng, utm):
    for name, source, _, _ in kinds(tmp_path, rng, utm):
        part = Subset(source, range(len(source.bands)), ((8, 48), (10, 50)))
        for size, how in (((20, 20), "area"), ((13, 7), "nearest"), ((10, 10), "majority")):
            one = part.read([0], whole(part.shape), size, how)
            other = source.read([0], ((8, 48), (10, 50)), size, how)
            np.testing.assert_array_equal(one.values, other.values, name)
            np.testing.assert_array_equal(one.valid, other.valid, name)


def test_overviews_made_under_another_nodata_are_left_alone(tmp_path, rng):
    array = natural(rng, (1, 700, 700), "u2")
    array[:, :, :333] = 0
    write_tiff(ArraySource(array), tmp_path / "a.tif")
    source = open_source(tmp_path / "a.tif")
    changed = with_nodata(source, 0)
    assert (len(source.overviews), changed.overviews) == (2, ())
    shrunk = changed.read([0], whole(changed.shape), (175, 175), "area")
    exact = ArraySource(array, bands=[Band("a", nodata=0)])
    wanted = exact.read([0], whole(exact.shape), (175, 175), "area")
    np.testing.assert_array_equal(shrunk.values, wanted.values)
    renamed = with_bands(source, {1: {"name": "x"}})
    assert renamed.overviews == source.overviews


def test_bands_described_anew(watched):
    source = with_bands(watched, {"green": {"wavelength": 842.0, "scale": 0.5}, 1: {"unit": "m"}})
    assert [band.role for band in source.bands] == ["red", "nir", "blue"]
    assert (source.bands[0].unit, source.bands[1].scale) == ("m", 0.5)
    with pytest.raises(MetadataError, match="no field colour; expected description"):
        with_bands(watched, {1: {"colour": "red"}})
    with pytest.raises(MetadataError, match="expected any or all"):
        with_nodata(watched, 0, "none")
    with pytest.raises(BandError, match="no band 7"):
        with_nodata(watched, {7: 0})


def test_a_selection_that_drops_a_band_drops_the_look(rng):
    look = Look(channels=(1, 2, 3))
    source = ArraySource(natural(rng, (3, 9, 9), "u1"), look=look)
    assert Subset(source, [0, 1, 2], whole((9, 9))).look is look
    assert Subset(source, [0, 1], whole((9, 9))).look is None


def test_pixels_are_masked_arrays_in_the_stored_type(rng, utm):
    array = natural(rng, (3, 70, 90), "u2")
    array[0, :5] = 0
    source = ArraySource(array, grid=utm, bands=BANDS)
    found = pixels(source, ["blue", 1], rows=(0, 10), columns=(5, 9))
    np.testing.assert_array_equal(found.data, array[[2, 0], :10, 5:9])
    assert found.mask[1, :5].all()
    assert not found.mask[1, 5:].any()
    found[...] = 1  # what is handed out belongs to the caller
    assert (array != 1).all()
    bounds = (480100, 7359400, 480300, 7359500)
    np.testing.assert_array_equal(pixels(source, 2, bounds=bounds).data[0], array[1, 50:60, 10:30])


def test_interpolated_integers_are_rounded_half_up():
    source = ArraySource(np.array([[[1, 2], [1, 2]]], np.int16))
    assert pixels(source, size=(1, 1), resample="area").item() == 2
    source = ArraySource(np.array([[[-1, -2], [-1, -2]]], np.int16))
    assert pixels(source, size=(1, 1), resample="area").item() == -1
    source = ArraySource(np.array([[[True, False]]]))
    assert pixels(source, size=(1, 1), resample="area").item() is True


def test_physical_pixels():
    source = ArraySource(np.array([[[1, 3]]], np.int16), bands=[Band("t", scale=0.5, offset=2)])
    found = pixels(source, physical=True)
    assert (found.dtype, found.tolist()) == (np.float32, [[[2.5, 3.5]]])
    assert pixels(source, physical=True, size=(1, 1), resample="area").item() == 3.0


def test_an_area_is_said_in_one_way():
    source = ArraySource(np.zeros((1, 4, 4)), grid=Grid((4, 4)))
    with pytest.raises(LookError, match="not both"):
        pixels(source, rows=(0, 1), bounds=(0, 0, 1, 1))
    with pytest.raises(GridMismatch, match="the raster has rows 0 to 4"):
        pixels(source, rows=(0, 9))
