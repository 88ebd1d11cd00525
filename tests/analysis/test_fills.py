"""Fill that nobody declared is found, told and left out of auto limits; real values are not."""

from __future__ import annotations

import numpy as np
import pytest

import spectrane as sp
from spectrane.analysis.checks import findings
from spectrane.analysis.fills import fills
from spectrane.model.source import source_of

RNG = np.random.default_rng(5)
SMOOTH = (np.add.outer(np.arange(300) * 3.0, np.arange(400) * 2.0) + 200).astype("f4")
SCATTERED = RNG.random(SMOOTH.shape) < 0.07
FEW = RNG.random(SMOOTH.shape) < 0.0008
COLLAR = np.zeros(SMOOTH.shape, bool)
COLLAR[:, :60] = True


def inside(dtype, value, where=SCATTERED):
    return np.where(where, value, SMOOTH).astype(dtype)[np.newaxis]


HUGE = float(np.float32(-3.4028235e38))
FOUND = {
    "the least float": (inside("f4", HUGE), [HUGE]),
    "a large one": (inside("f8", float(np.float32(1e30))), [float(np.float32(1e30))]),
    "-9999": (inside("f4", -9999), [-9999.0]),
    "-9999 of integers": (inside("i2", -9999), [-9999]),
    "-99999": (inside("i4", -99999), [-99999]),
    "an end of the type": (inside("i2", -32768), [-32768]),
    "the other end": (inside("u2", 65535), [65535]),
    "eight in ten thousand": (inside("f4", -9999, FEW), [-9999.0]),
    "two of them": (np.where(COLLAR, HUGE, inside("f4", -9999)), [-9999.0, HUGE]),
    "a collar of 0": (np.concatenate([inside("u2", 0, COLLAR)] * 3), [0]),
    "a collar of bytes": (np.concatenate([inside("f4", 0, COLLAR) / 8] * 3).astype("u1"), [0]),
}
ICE = np.clip(SMOOTH / 8 - 60, 0, 100)
REAL = {
    "0 inside": inside("u2", 0),
    "a gradient that ends at the type's end": np.clip(SMOOTH[np.newaxis] * 60, 0, 65535).astype(
        "u2"),
    "-9999 among its like": (SMOOTH[np.newaxis] - 10600).astype("i2"),
    "counts that are mostly none": RNG.poisson(0.2, (1, 300, 300)).astype("u2"),
    "a few": inside("f4", -9999, RNG.random(SMOOTH.shape) < 0.0001),
    "open water in sea ice": ICE[np.newaxis].astype("f4"),
    "255 inside bytes": inside("f4", 1020).astype("f4").__truediv__(8).clip(0, 255).astype("u1"),
    "a mask": (SCATTERED[np.newaxis] * 65535).astype("u2"),
    "a mask of floats": SCATTERED[np.newaxis].astype("f4"),
    "nothing else": np.full((1, 50, 60), -9999, "i2"),
}  # fmt: skip


def told(array, **options):
    raster = sp.from_array(array, **options)
    source = source_of(raster)
    return raster, sorted(float(one.value) for one in fills(source, range(len(source.bands))))


@pytest.mark.filterwarnings("ignore:.*(is saturated|cut off)")
@pytest.mark.parametrize("name", FOUND)
def test_fill_is_found_and_told_with_what_mends_it(name):
    array, wanted = FOUND[name]
    raster, found = told(array)
    assert found == sorted(map(float, wanted))
    (fix,) = {one.fix for one in findings(source_of(raster)) if one.code == "fill"}
    assert fix.startswith("spectrane amend FILE --nodata ")
    for call in (raster.statistics, raster.histogram, lambda: sp.render(raster)):
        with pytest.warns(sp.DataWarning, match="looks like fill that nobody declared.*--nodata"):
            call()
    mended = raster.with_nodata([float(v) for v in fix.split()[-1].split(",")])
    assert not fills(source_of(mended), range(len(array)))
    assert mended.statistics()["min"].min() >= 0
    if array.dtype.itemsize > 1:
        with pytest.warns(sp.DataWarning, match="left out of the limits"):
            shown = sp.render(raster).scales[0]
        wanted_scale = sp.render(mended).scales[0]
        assert (shown.low, shown.high) == (wanted_scale.low, wanted_scale.high)


@pytest.mark.parametrize("name", REAL)
def test_real_values_are_not_mistaken_for_fill(name):
    assert told(REAL[name])[1] == []


def test_names_of_classes_and_declared_fill_are_none():
    array = inside("i2", -9999)
    look = sp.Look(classes={-9999: ("#000000", "void"), 300: ("#ffffff", "rest")})
    assert not fills(source_of(sp.from_array(array).with_look(look)), [0])
    assert told(array, nodata=-9999)[1] == []
    more = np.where(COLLAR, -32768, array).astype("i2")
    raster, found = told(more, nodata=-9999)
    assert found == [-32768.0]
    assert findings(source_of(raster))[0].fix.endswith("--nodata -9999,-32768")


def test_volumes_too_but_their_zeros_are_background():
    cube = np.zeros((40, 50, 30), "f4")
    cube[10:30, 10:30] = RNG.gamma(3, 400, (20, 20, 30))
    volume = sp.volume_from_array(cube, affine=np.eye(4))
    assert not fills(source_of(volume), [0])
    cube[::7] = HUGE
    volume = sp.volume_from_array(cube, affine=np.eye(4))
    assert [one.value for one in fills(source_of(volume), [0])] == [HUGE]
    with pytest.warns(sp.DataWarning, match="looks like fill"):
        volume.statistics()


@pytest.mark.filterwarnings("error::RuntimeWarning")
def test_fill_at_the_end_of_the_type_stays_itself_in_overviews_and_sums(tmp_path):
    for dtype in ("f4", "f8"):
        array = np.zeros((1, 600, 640), dtype)
        array[:, :300] = least = np.finfo(dtype).min
        sp.from_array(array).save(tmp_path / "a.tif", overwrite=True)
        raster = sp.open(tmp_path / "a.tif")
        small = raster.pixels(size=(300, 320), resample="area")
        np.testing.assert_array_equal(small.filled(1)[0, ::299, 0], [least, 0])
        with pytest.warns(sp.DataWarning, match="looks like fill"):
            np.testing.assert_allclose(raster.statistics()["mean"], least / 2)


def test_large_files_are_sampled_at_full_resolution(tmp_path, monkeypatch):
    array = np.tile(inside("i2", -9999), (1, 8, 6))
    sp.from_array(array).save(tmp_path / "a.tif")
    source = source_of(sp.open(tmp_path / "a.tif"))
    assert source.overviews
    reads = []
    plain = type(source).read

    def watched(self, bands, window, size=None, resample="nearest"):
        reads.append((window, size))
        return plain(self, bands, window, size, resample)

    monkeypatch.setattr(type(source), "read", watched)
    (fill,) = fills(source, [0])
    assert (fill.value, fill.complete, len(reads)) == (-9999, False, 9)
    assert all(size is None for _, size in reads)
    fills(source, [0])
    assert len(reads) == 9  # found once
