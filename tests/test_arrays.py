"""Faces among arrays: what NumPy and plots get of a raster, a mask, a picture, a volume."""

from __future__ import annotations

import warnings

import numpy as np
import pytest

import spectrane as sp


@pytest.fixture
def holed(rng):
    values = rng.integers(1, 99, (2, 5, 7)).astype("u1")
    values[:, 0, 0] = 0
    return values


def test_a_raster_is_an_array_where_it_can_be(holed):
    whole = sp.from_array(holed)
    np.testing.assert_array_equal(np.asarray(whole), holed)
    assert np.asarray(whole, dtype="f4").dtype == np.float32
    assert np.stack([whole, whole]).shape == (2, 2, 5, 7)
    part = sp.from_array(holed, nodata=0)
    with pytest.raises(sp.ArgumentError, match=r"2 of 70 numbers .* raster.to_numpy\(fill=VALUE\)"):
        np.asarray(part)
    np.testing.assert_array_equal(part.to_numpy(fill=255), np.where(holed == 0, 255, holed))
    for fill in (300, -1, np.nan, 0.5):
        with pytest.raises(sp.ArgumentError, match="uint8 cannot hold it"):
            part.to_numpy(fill=fill)
    floats = sp.from_array(holed.astype("f4"), nodata=0)
    np.testing.assert_array_equal(np.isnan(floats), holed == 0)
    assert np.nanmax(floats) == holed.max()
    with pytest.raises(ValueError, match="copy=False"):
        np.asarray(floats, copy=False)


def test_masks_and_pictures_are_arrays(holed):
    mask = sp.mask(sp.from_array(holed), range=(50, None), band=1)
    np.testing.assert_array_equal(np.asarray(mask), holed[:1] >= 50)
    grid = sp.Grid.from_corner((5, 7), x=100, y=200, pixel_size=10)
    picture = sp.render(sp.from_array(holed[:1], grid=grid))
    np.testing.assert_array_equal(np.asarray(picture), picture.rgba)
    assert picture.extent == (100, 170, 150, 200)
    from matplotlib.figure import Figure

    shown = Figure().add_subplot().imshow(picture, extent=picture.extent)
    np.testing.assert_array_equal(shown.get_array(), picture.rgba)


def test_a_volume_is_an_array_and_has_what_a_raster_has(rng):
    values = rng.integers(0, 99, (2, 3, 4, 5)).astype("i2")
    frames = [sp.Frame("a", unit="m", scale=0.5), sp.Frame("b", unit="m")]
    volume = sp.volume_from_array(values, affine=np.eye(4), frames=frames)
    np.testing.assert_allclose(np.asarray(volume), values[0] * 0.5)
    assert np.stack([volume, volume]).shape == (2, 3, 4, 5)
    other = volume.with_nodata(int(values[0, 0, 0, 0]))
    assert np.isnan(other)[0, 0, 0]
    assert volume.convert("mm").frames[0].unit == "mm"
    np.testing.assert_allclose(np.asarray(volume.convert("mm")), values[0] * 500.0)
    held = other.load()
    for frame in (1, 2):
        for mine, theirs in zip(
            (held.voxels(frame), held.voxels(frame, i=(1, 3), k=(0, 2))),
            (other.voxels(frame), other.voxels(frame, i=(1, 3), k=(0, 2))),
        ):
            np.testing.assert_array_equal(mine.mask, theirs.mask)
            np.testing.assert_array_equal(mine.filled(-1), theirs.filled(-1))
    assert "<table" in volume._repr_html_()


def test_what_is_public_prints_in_three_lines_at_most(holed, utm):
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        raster = sp.from_array(np.arange(6300, dtype="u2").reshape(1, 70, 90), grid=utm)
        picture = sp.render(raster)
        shown = [
            raster, picture, sp.mask(raster, range=(3, 9)), picture.legend(), raster.grid,
            raster.bands[0], sp.Look(), sp.View(), raster.histogram(), sp.Layer(raster),
            sp.Outline((0, 0, 1, 1)), sp.stack([raster]), raster.propose_look(), picture.plan,
            sp.volume_from_array(np.ones((3, 4, 5)), affine=np.eye(4)), sp.colormaps["kiln"],
            sp.read_shapes, picture.scales[0],
        ]  # fmt: skip
    for one in shown:
        text = repr(one)
        assert text.count("\n") < 3, type(one)
        assert len(text) <= 300, (type(one), len(text))


def test_a_warning_points_at_the_line_of_the_caller(tmp_path, rng):
    values = rng.integers(0, 3000, (1, 90, 90)).astype("u2")
    raster = sp.from_array(values)
    sp.render(raster).save(tmp_path / "a.png")
    shown = sp.open(tmp_path / "a.png")
    look = sp.Look(limits=(5000, 6000))
    for call in (
        lambda: sp.render(raster, look), lambda: raster.save(tmp_path / "b.png", overwrite=True),
        lambda: shown.statistics(), lambda: sp.probe(shown, row=1, column=1),
        lambda: sp.place(raster, bounds=(0, 0, 9, 1)),
    ):  # fmt: skip
        with warnings.catch_warnings(record=True) as told:
            warnings.simplefilter("always")
            call()
        assert told
        assert {one.filename for one in told} == {__file__}
