"""Halse Sound in other files, each with a trouble in it that an analyst meets."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.demo.fields import Field, noise, smooth
from spectrane.demo.land import Cover, Land
from spectrane.engine.memory import ArraySource
from spectrane.formats.fits.header import BLOCK, card, header_bytes
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.look import Look

_WET = (Cover.WATER, Cover.EELGRASS)


def thermal(grid: Grid, land: Land, x: Field, y: Field) -> ArraySource:
    """Return brightness temperature: kelvin as int16 x 0.01, 60 m, with a warm outfall plume."""
    step = max(1, round(60 / grid.pixel_size[0]))
    wet = np.isin(land.cover, _WET)
    plume = 4.5 * np.exp(-(((x - 5600) / 1500) ** 2) - ((y - 4750 - 0.1 * (x - 5600)) / 420) ** 2)
    water = 284.5 + 0.9 * noise(x, y, 2600, 211, 3) + plume
    ground = 291 + 4 * (land.light - 1) + 3 * noise(x, y, 600, 223, 4)
    kelvin = np.where(wet, water, ground)
    stored, place = _in_next_zone(kelvin, grid, step)
    band = Band("temperature", unit="K", scale=0.01, nodata=-32768,
                description="brightness temperature")  # fmt: skip
    return ArraySource(stored[np.newaxis], grid=place, bands=[band])


def _in_next_zone(kelvin: Field, grid: Grid, step: int) -> tuple[NDArray[np.int16], Grid]:
    """Return the scene's mean temperatures on a grid of the next zone east, as sensed."""
    import pyproj

    to_next = pyproj.Transformer.from_crs("EPSG:32727", "EPSG:32728", always_xy=True)
    corners = np.array(grid.corners)
    xs, ys = to_next.transform(corners[:, 0], corners[:, 1])
    size = grid.pixel_size[0] * step
    left, top = (np.floor(min(xs) / size) * size, np.ceil(max(ys) / size) * size)
    shape = (int((top - min(ys)) / size) + 1, int((max(xs) - left) / size) + 1)
    place = Grid.from_corner(shape, x=left, y=top, pixel_size=size, crs="EPSG:32728")
    east, north = np.meshgrid(left + (np.arange(shape[1]) + 0.5) * size,
                              top - (np.arange(shape[0]) + 0.5) * size)  # fmt: skip
    x, y = to_next.transform(east, north, direction="INVERSE")
    x_min, _, _, y_max = grid.bounds
    column = np.floor((x - x_min) / grid.pixel_size[0]).astype(int)
    row = np.floor((y_max - y) / grid.pixel_size[1]).astype(int)
    inside = (row >= 0) & (row < grid.rows) & (column >= 0) & (column < grid.columns)
    means = _box_mean(kelvin.astype(np.float64), step)
    values = means[row.clip(0, grid.rows - 1), column.clip(0, grid.columns - 1)]
    return np.where(inside, np.round(values * 100), -32768).astype(np.int16), place


def _box_mean(values: NDArray[np.float64], width: int) -> NDArray[np.float64]:
    """Return the mean of a box around each pixel, its edge repeated outside."""
    for axis in (0, 1):
        padding = [(0, 0), (0, 0)]
        padding[axis] = (width // 2 + 1, width - width // 2 - 1)
        sums = np.pad(values, padding, mode="edge").cumsum(axis=axis)
        later, before = (np.take(sums, np.arange(k, k + values.shape[axis]), axis) for k in
                         (width, 0))  # fmt: skip
        values = (later - before) / width
    return values


def depth(grid: Grid, land: Land) -> ArraySource:
    """Return water depth in metres, -9999 on land; its display range is unsigned nonsense."""
    wet = np.isin(land.cover, _WET)
    metres = np.where(wet, land.depth, -9999).astype(np.float32)
    band = Band("depth", unit="m", nodata=-9999, description="water depth below chart datum")
    look = Look(limits=(0, 65535))
    return ArraySource(metres[np.newaxis], grid=grid, bands=[band], look=look)


def weekly(grid: Grid, land: Land, x: Field, y: Field) -> ArraySource:
    """Return four weeks of sea surface temperature, degrees Celsius as scaled integers."""
    wet = np.isin(land.cover, _WET)
    weeks = []
    for week in range(4):
        water = 9 + 1.4 * week + 1.1 * noise(x + 700 * week, y, 3000, 241, 3)
        weeks.append(np.where(wet, np.round(water * 100), -32768))
    cube = np.stack(weeks)[:, ::4, ::4].astype(np.int16)
    left, _, _, top = grid.bounds
    size = (grid.pixel_size[0] * 4, grid.pixel_size[1] * 4)
    place = Grid.from_corner(cube.shape[1:], x=left, y=top, pixel_size=size, crs="EPSG:32727")
    names = [f"week {k}" for k in range(1, 5)]
    bands = [Band(name, unit="degC", scale=0.01, nodata=-32768) for name in names]
    return ArraySource(cube, grid=place, bands=bands)


def write_pan(path: Path, bands: NDArray[np.uint16], land: Land) -> tuple[int, int]:
    """Write a headerless 8-bit picture, and a note that swaps its rows and columns."""
    part = bands[:3, bands.shape[1] // 4 : 3 * bands.shape[1] // 4].astype(np.float32).mean(axis=0)
    grey = np.clip((part / 2600) ** 0.7 * 255, 0, 255).astype(np.uint8)
    path.write_bytes(grey.tobytes())
    rows, columns = grey.shape
    path.with_suffix(".txt").write_text(
        "sound_pan.bin, panchromatic, 8 bits, no header\n"
        f"rows {columns}\ncolumns {rows}\n"  # as the note has it: the wrong way round
    )
    return rows, columns


def write_comet(path: Path, seed: int) -> None:
    """Write a night-sky frame of four decades of brightness, and its weight map behind it."""
    sky, weight = _comet(seed)
    lines = card("SIMPLE", True) + _axes_cards(sky, "counts")
    lines += card("OBJECT", "comet over Halse Sound") + card("EXTEND", True)
    lines += card("CTYPE1", "RA---TAN") + card("CRVAL1", 83.25) + card("CRPIX1", 320.5)
    lines += card("CDELT1", -0.0011) + card("CTYPE2", "DEC--TAN") + card("CRVAL2", -21.5)
    lines += card("CRPIX2", 240.5) + card("CDELT2", 0.0011)
    lines += card("DATAMIN", 0.0) + card("DATAMAX", 65535.0)
    second = card("XTENSION", "IMAGE") + _axes_cards(weight, "1")
    second += card("PCOUNT", 0) + card("GCOUNT", 1) + card("EXTNAME", "WEIGHT")
    path.write_bytes(header_bytes(lines) + _data(sky) + header_bytes(second) + _data(weight))


def _axes_cards(image: NDArray[np.float32], unit: str) -> list[str]:
    lines = card("BITPIX", -32) + card("NAXIS", 2)
    lines += card("NAXIS1", image.shape[1]) + card("NAXIS2", image.shape[0])
    return lines + card("BUNIT", unit)


def _data(image: NDArray[np.float32]) -> bytes:
    raw = image.astype(">f4").tobytes()
    return raw + b"\0" * (-len(raw) % BLOCK)


def _comet(seed: int) -> tuple[NDArray[np.float32], NDArray[np.float32]]:
    random = default_rng(seed)
    rows, columns = 480, 640
    y, x = np.mgrid[:rows, :columns].astype(np.float32)
    along = (x - 210) * 0.88 + (y - 170) * 0.47
    across = (y - 170) * 0.88 - (x - 210) * 0.47
    head = 30000 / (1 + (np.hypot(x - 210, y - 170) / 3.0) ** 2.2)
    wide = 8 + 0.11 * np.maximum(along, 0)
    tail = 700 * np.exp(-along / 190) * np.exp(-((across / wide) ** 2)) * smooth(-6, 12, along)
    rays = 1 + 0.35 * np.sin(across / (2 + 0.02 * np.maximum(along, 0)))
    sky = 5 + random.normal(0, 0.8, (rows, columns)) + head + tail * rays
    for _ in range(260):
        r, c = random.uniform(0, rows), random.uniform(0, columns)
        bright = 10 ** random.uniform(0.8, 4.0)
        sky += bright * np.exp(-((x - c) ** 2 + (y - r) ** 2) / (2 * 1.15**2))
    weight = 1 - 0.4 * (np.hypot(x - 320, y - 240) / 400) ** 2
    return sky.astype(np.float32), weight.astype(np.float32)


def write_plan(path: Path) -> None:
    """Draw the barrage's plan, a picture without a place, and tie points for it."""
    from PIL import Image, ImageDraw, ImageFont

    sheet = Image.new("L", (900, 420), 252)
    draw = ImageDraw.Draw(sheet)
    font = ImageFont.load_default(18)
    draw.rectangle((20, 20, 879, 399), outline=40, width=3)
    draw.line((90, 250, 810, 190), fill=30, width=26)
    for k in range(12):
        left, top = 120 + k * 56, 236 - k * 4.7
        draw.rectangle((left, top, left + 30, top + 22), fill=230, outline=30)
    draw.text((50, 40), "Halse Sound tidal barrage: turbine hall, plan", fill=20, font=font)
    draw.text((50, 350), "twelve turbines, two locks; not to be scaled from", fill=90, font=font)
    sheet.save(path, optimize=True)
    # As the barrage lies in the scene, to a metre or two; the fifth was read off badly.
    points = ["row,column,x,y"]
    for row, column, off in ((250, 90, 0), (190, 810, 1), (60, 420, -1), (380, 160, 2),
                             (330, 700, 15), (40, 780, -1)):  # fmt: skip
        right, down = column - 90, row - 250
        x = 493150 + 0.50575 * right - 3.93103 * down + off
        y = 7357700 - 3.93103 * right - 0.50575 * down - off
        points.append(f"{row},{column},{x:.0f},{y:.0f}")
    path.with_name("barrage_points.csv").write_text("\n".join(points) + "\n")


_STATIONS = {
    "deep water": Cover.WATER, "eelgrass": Cover.EELGRASS, "salt-marsh": Cover.SALTMARSH,
    "meadow": Cover.MEADOW, "conifers": Cover.CONIFER, "beach": Cover.SAND,
}  # fmt: skip


def write_stations(path: Path, grid: Grid, land: Land) -> None:
    """Write places that differ in their spectra, each amid its own cover."""
    lines = ["name,x,y"]
    for name, cover in _STATIONS.items():
        same = (land.cover == cover) & (land.depth > 18 if cover == Cover.WATER else True)
        amid = same.copy()
        for axis in (0, 1):
            for shift in (-2, -1, 1, 2):
                amid &= np.roll(same, shift, axis)
        candidates = np.argwhere(amid if amid.any() else same)
        row, column = candidates[len(candidates) // 2].tolist()
        x, y = grid.center(row=row, column=column)
        lines.append(f"{name},{x:.0f},{y:.0f}")
    path.write_text("\n".join(lines) + "\n")
