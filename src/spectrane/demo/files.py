"""The demo's files, written by Spectrane's own writers."""

from __future__ import annotations

import importlib.util
from collections.abc import Callable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from spectrane.demo.acquisitions import write_acquisitions
from spectrane.demo.aerial import photograph, write_shapes
from spectrane.demo.land import HEIGHT, WIDTH, Cover, Land, make_land
from spectrane.demo.spectra import BANDS, see
from spectrane.demo.study import write_study
from spectrane.demo.troubled import (
    depth,
    thermal,
    weekly,
    write_comet,
    write_pan,
    write_plan,
    write_stations,
)
from spectrane.engine.memory import ArraySource
from spectrane.formats.cf.writer import write_netcdf
from spectrane.formats.tiff.writer import write_tiff
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.look import Class, Look
from spectrane.model.whole_files import check_target
from spectrane.model.window import whole

SEED = 2709
_CRS, _LEFT, _TOP = "EPSG:32727", 486000.0, 7362000.0
_PIXEL = 10.0

LAYERS = """# spectrane overlay --layers sound.layers.toml -o map.png
[[layer]]
file = "sound_8band.tif"
nodata = 0
look = {channels = "natural", limits = "percentile:2,98"}

[[layer]]
file = "sound_depth.tif"
compute = {height = "-depth"}
relief = {azimuth = 315, altitude = 45, exaggeration = 12}
mode = "multiply"
opacity = 0.8

[[layer]]
file = "sound_thermal.tif"
look = {colormap = "auto"}
opacity = 0.5

[[layer]]
outline = "lease.geojson"
label = "name"
"""
HABITATS: dict[float, Class] = {
    1.0: ("#1d3f66", "deep water"),
    2.0: ("#4f8fb8", "shallow water"),
    3.0: ("#1f7a6d", "eelgrass"),
    4.0: ("#9c8f80", "mudflat"),
    5.0: ("#8fae5d", "salt-marsh"),
    6.0: ("#ead9a0", "beach"),
    7.0: ("#b9d98a", "grassland"),
    8.0: ("#e2b765", "arable"),
    9.0: ("#2f6b3a", "woodland"),
    10.0: ("#8d6a8f", "heath and rock"),
    11.0: ("#c0504d", "built-up"),
}
_HABITAT_OF: dict[Cover, int] = {
    Cover.WATER: 2, Cover.EELGRASS: 3, Cover.MUD: 4, Cover.SALTMARSH: 5, Cover.SAND: 6,
    Cover.PASTURE: 7, Cover.MEADOW: 7, Cover.BARLEY: 8, Cover.BLOSSOM: 8, Cover.SOIL: 8,
    Cover.PLOUGHED: 8, Cover.HEDGE: 9, Cover.CONIFER: 9, Cover.BROADLEAF: 9, Cover.HEATH: 10,
    Cover.ROCK: 10, Cover.ROAD: 11, Cover.TILES: 11, Cover.SLATE: 11, Cover.GARDEN: 11,
    Cover.CONCRETE: 11, Cover.RAFT: 2,
}  # fmt: skip


def write_demo(
    folder: Path, *, scale: float = 1.0, overwrite: bool = False,
    told: Callable[[Path, str], None] = lambda path, what: None,
) -> list[Path]:  # fmt: skip
    """Write the demo files into a folder and return their paths; ``told`` hears of each.

    ``scale`` makes the same scene of more or fewer pixels a side.
    """
    folder.mkdir(parents=True, exist_ok=True)
    check_target(str(folder / "sound_8band.tif"), overwrite=overwrite)  # before making the scene
    grid = scene_grid(scale)
    x, y = positions(grid)
    land = make_land(x, y)
    seen = sound(grid, land, x, y)
    files: list[Path] = []

    def wrote(path: Path, what: str) -> None:
        told(path, what)
        files.append(path)

    for name, source, what in (
        ("sound_8band.tif", seen, "reflectance in 8 bands, blue first"),
        ("habitats.tif", habitats(grid, land), "habitat classes with names and colours"),
        ("sound_thermal.tif", thermal(grid, land, x, y), "kelvin as int16 x 0.01, another zone"),
        ("sound_depth.tif", depth(grid, land), "depth in metres, -9999 on land"),
    ):
        write_tiff(source, folder / name, overwrite=overwrite)
        wrote(folder / name, what)
    for which in ("north", "south"):
        path = folder / f"sound_{which}.tif"
        write_tiff(photograph(which, _LEFT, _TOP - HEIGHT, scale, SEED), path, overwrite=overwrite)
        wrote(path, "aerial colour, 2 m, black wedges" + ", darker" * (which == "south"))
    _others(folder, seen, land, (x, y), overwrite, wrote, told)
    return files


def _others(
    folder: Path, seen: ArraySource, land: Land,
    at: tuple[NDArray[np.float32], NDArray[np.float32]], overwrite: bool,
    wrote: Callable[[Path, str], None], told: Callable[[Path, str], None],
) -> None:  # fmt: skip
    """Write the files of other formats."""
    shown = seen.read(range(3), whole(seen.shape)).values
    for name, write, what in (
        ("stations.csv", lambda path: write_stations(path, seen.grid, land), "places to read at"),
        ("sound_pan.bin", lambda path: write_pan(path, shown, land),
         "headerless; its note swaps rows and columns"),
        ("comet.fits", lambda path: write_comet(path, SEED), "four decades of brightness"),
        ("barrage_plan.png", write_plan, "a drawing without a place, and tie points"),
        ("sound.layers.toml", lambda path: path.write_text(LAYERS), "layers to overlay"),
        ("eelgrass.geojson", lambda path: write_shapes(path, seen.grid, land),
         "a bed with a hole, and leases, one across the edge"),
    ):  # fmt: skip
        path = folder / name
        check_target(str(path), overwrite=overwrite)
        write(path)
        wrote(path, what)
    size = min(1.0, max(0.3, seen.shape[0] * _PIXEL / HEIGHT))
    for path, what in write_study(folder, SEED, size, overwrite):
        wrote(path, what)
    left, bottom = seen.grid.bounds[:2]
    write_acquisitions(folder / "acquisitions", left, bottom, SEED, scale=size,
                       overwrite=overwrite)  # fmt: skip
    wrote(folder / "acquisitions" / "catalog.json", "a catalogue of fourteen dated scenes")
    path = folder / "sound_weekly.nc"
    if importlib.util.find_spec("h5py") is None:
        told(path, "left out: netCDF needs pip install 'spectrane[storage]'")
        return
    write_netcdf(weekly(seen.grid, land, *at), path, overwrite=overwrite)
    wrote(path, "four weeks of sea temperature, netCDF-4")


def scene_grid(scale: float) -> Grid:
    """Return the scene's grid: 1100 rows and 1500 columns of 10 m at scale 1."""
    rows, columns = (max(8, round(length / _PIXEL * scale)) for length in (HEIGHT, WIDTH))
    size = (WIDTH / columns, HEIGHT / rows)
    return Grid.from_corner((rows, columns), x=_LEFT, y=_TOP, pixel_size=size, crs=_CRS)


def positions(grid: Grid) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    """Return metres east, as a row, and north, as a column, of the lower left corner."""
    dx, dy = grid.pixel_size
    east = (np.arange(grid.columns, dtype=np.float32) + 0.5) * np.float32(dx)
    north = np.float32(HEIGHT) - (np.arange(grid.rows, dtype=np.float32) + 0.5) * np.float32(dy)
    return east[np.newaxis, :], north[:, np.newaxis]


def sound(grid: Grid, land: Land, x: NDArray[np.float32], y: NDArray[np.float32]) -> ArraySource:
    """Return the eight-band scene, with its zero-filled edge and no word of no-data."""
    return ArraySource(see(land, x, y, SEED), grid=grid, bands=BANDS)


def habitats(grid: Grid, land: Land) -> ArraySource:
    """Return the habitat map: classes 1 to 11, and 0 where nothing was mapped."""
    table = np.array([_HABITAT_OF[cover] for cover in Cover], np.uint8)
    classes = table[land.cover]
    classes[(classes == 2) & (land.depth > 6)] = 1
    band = Band("habitat", description="mapped habitat class", nodata=0)
    return ArraySource(classes[np.newaxis], grid=grid, bands=[band], look=Look(classes=HABITATS))
