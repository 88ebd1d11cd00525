"""A user's script: it runs as a test, and passes ``mypy --strict`` and pyright (``make check``)."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np
import pandas as pd

import spectrane as sp


def scene() -> sp.Raster:
    grid = sp.Grid.from_corner((40, 60), x=500000, y=7357000, pixel_size=10, crs=32727)
    numbers = np.random.default_rng(4).integers(1, 4000, (3, 40, 60)).astype(np.uint16)
    red, nir = (sp.Band(name, role=name, scale=1e-4) for name in ("red", "nir"))
    return sp.from_array(numbers, grid=grid, bands=[red, nir, "qa"], nodata={1: 0, 2: [0, (7, 9)]})


def study() -> sp.Volume:
    numbers = np.random.default_rng(5).normal(size=(2, 12, 12, 12)).astype(np.float32)
    change = sp.Frame("change", unit="HU")
    return sp.volume_from_array(numbers, affine=np.diag([2.0, 2, 2, 1]), frames=[change, "t"])


def rasters(folder: Path) -> sp.Raster:
    scene().save(folder / "a.tif", compress="zstd", planes="planar", overviews=False)
    opened = sp.open(folder / "a.tif")
    either: float = opened.spacing[0] if isinstance(opened, sp.Volume) else opened.grid.bounds[0]
    assert either == 500000
    sp.amend(folder / "a.tif", bands={1: {"unit": "1"}, "nir": {"unit": "1"}}, nodata=[0, (9, 9)])
    raster = sp.open_raster(folder / "a.tif", damaged="keep").with_nodata(None, when="all")
    part = raster.crop(rows=[0, 30], columns=(0, 40)).select(["red", 2]).load()
    index = part.compute({"ndvi": "(nir - red) / (nir + red)"})
    coarse = index.regrid(crs=raster.grid.crs, pixel_size=20, resample="area")
    bed = raster.clip([500100, 7356700, 500300, 7356900], crs="EPSG:32727", keep="touching")
    kept = raster.masked(
        sp.mask(raster, range=(0.1, None), band="nir").grow(1) & ~sp.mask(raster, values=7, band=3)
    )
    table: pd.DataFrame = raster.statistics(["red"], region=[500000, 7356700, 500300, 7357000])
    counts: list[int] = raster.histogram("red", bins=16, range=(0, 0.4)).counts[0].tolist()
    values: np.ma.MaskedArray[tuple[int, ...], np.dtype[np.float32]] = coarse.pixels(physical=True)
    assert len(table) == 1
    assert sum(counts) > 0
    assert values.shape == coarse.shape
    assert bed.grid.shape == (20, 20)
    assert np.asarray(kept.to_numpy(fill=0)).shape == kept.shape
    return raster


def looks(raster: sp.Raster, folder: Path) -> None:
    look = sp.Look(channels=("nir", "red", "red"), limits="percentile:2,98", curve="sqrt")
    look.save(folder / "a.look.toml")
    picture: sp.Picture = sp.render(raster, sp.Look.load(folder / "a.look.toml"), size=(30, 45))
    picture.save(folder / "a.png", bits=16)
    scales: tuple[sp.Scale, ...] = picture.scales
    legend: sp.Legend = picture.legend()
    assert (scales[0].band, len(legend.channels)) == ("nir", 3)
    layers = [
        sp.Layer(raster, look),
        sp.Layer(raster.select("qa"), opacity=0.5, mode="screen", threshold="qa > 0.1"),
        sp.Outline({"type": "Point", "coordinates": [500100, 7356900]}, crs=32727),
    ]
    drawn: sp.Stack = sp.stack(layers, view=sp.View(rows=(0, 20), columns=(0, 20)), area="union")
    sp.pages.overlay_page(layers, folder / "a.html", size=(30, 45))
    figure = sp.figures.compare([(raster, look), (raster, None)], size=(200, 400), mode="swipe")
    assert (len(drawn.layers), len(figure.axes)) == (3, 1)
    rows = sp.probe_rows([raster, (raster, look)], x=500100, y=7356900)
    points = sp.probe(raster, points=[{"name": "a", "row": 1, "column": 2}], crs=raster.grid.crs)
    zones = sp.profile(raster, pd.DataFrame({"row": [1], "column": [2]}))
    assert (len(rows), len(points), len(zones)) == (6, 3, 3)
    with_place: sp.Placement = sp.placement(raster, bounds=(0, 0, 60, 40))
    assert with_place.rms == 0
    moved: sp.Alignment = sp.align(raster, raster, band=1)
    joined = sp.mosaic([raster, sp.apply_alignment(raster, raster, moved)], rule="feather", width=3)
    assert joined.shape == raster.shape


def volumes(folder: Path) -> None:
    study().save(folder / "s.nii.gz")
    volume = sp.open_volume(folder / "s.nii.gz").crop(k=(0, 8)).load()
    cut: sp.Raster = volume.slice("axial", at=4.0, frame="t", side="neurological", axes="own")
    layer = sp.VolumeLayer(volume, threshold=sp.Threshold("t", at=1.0), frame="change", least=2)
    picture = sp.three_planes([sp.Layer(volume), layer], [4, 4, 4])
    named = sp.slice_picture([layer], "coronal", at=4)
    groups: pd.DataFrame = sp.clusters(layer)
    labels = volume.masked("t > 0").select("t").regrid(volume.grid, resample="nearest")
    assert cut.shape == (1, 12, 12)
    assert picture.rgba.shape[2] == named.rgba.shape[2] == 4
    assert (len(groups) > 0, labels.shape) == (True, (1, 12, 12, 8))


def main() -> None:
    """Go the way of an analyst, from an array to pictures."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        raster = rasters(folder)
        looks(raster, folder)
        volumes(folder)
        try:
            sp.open_volume(folder / "a.tif")
        except sp.FormatError as error:
            assert "volume is expected" in str(error)


if __name__ == "__main__":
    main()
