"""Numbers that are names (classes, palettes, labels, flags) are mixed nowhere unless forced."""

from __future__ import annotations

import h5py
import numpy as np
import pytest

import spectrane as sp
from spectrane.model.errors import LookError

CODES = np.array([251, 253, 254], "u1")


def classes(tmp_path, array, utm):
    look = sp.Look(classes={int(code): ("#336699", f"c{code}") for code in CODES})
    return sp.from_array(array[:1], grid=utm).with_look(look)


def flags(tmp_path, array, utm):
    with h5py.File(tmp_path / "a.nc", "w") as file:
        file.attrs["Conventions"] = "CF-1.11"
        file["y"], file["x"] = 7360000 - 5 - 10.0 * np.arange(70), 480005 + 10.0 * np.arange(90)
        data = file.create_dataset("ice", data=array)
        for axis, name in ((1, "y"), (2, "x")):
            file[name].make_scale(name)
            data.dims[axis].attach_scale(file[name])
        data.attrs["flag_values"], data.attrs["flag_meanings"] = CODES, "land coast lake"
    return sp.open(tmp_path / "a.nc").with_look(sp.Look(limits=(0, 9)))


def flags_in_tiff(tmp_path, array, utm):
    flags(tmp_path, array, utm).save(tmp_path / "a.tif")
    return sp.open(tmp_path / "a.tif")


def finer(raster):
    return sp.Grid.from_corner((90, 110), x=480003, y=7359998, pixel_size=6.5,
                               crs=raster.grid.crs_text)  # fmt: skip


WAYS = {
    "pixels": lambda r, **o: r.pixels(size=(33, 41), resample="cubic", **o),
    "area": lambda r, **o: r.pixels(size=(33, 41), resample="area", **o),
    "regrid": lambda r, **o: r.regrid(finer(r), resample="bilinear", **o).pixels(),
    "average": lambda r, **o: sp.mosaic([r, r.crop(rows=(5, 60))], rule="average", **o).pixels(),
    "balance": lambda r, **o: sp.mosaic([r, r.crop(rows=(5, 60))], balance="gain", **o).pixels(),
}


@pytest.mark.filterwarnings("ignore::spectrane.DataWarning")
@pytest.mark.parametrize("made", [classes, flags, flags_in_tiff])
def test_nothing_is_mixed_unless_forced(made, tmp_path, rng, utm):
    named = made(tmp_path, rng.choice(CODES, (2, 70, 90)), utm)
    for way in WAYS.values():
        with pytest.raises(LookError, match="names of classes or flags"):
            way(named)
        assert way(named, force=True).shape[0] == len(named.bands)
    unasked = named.regrid(finer(named)).pixels().compressed()
    assert set(np.unique(unasked)) <= set(CODES.tolist())
    named.save(tmp_path / "b.tif", tile=256)
    assert sp.render(named, sp.Look(channels=1), size=(20, 20)).plan.method((3, 3)) == "majority"
