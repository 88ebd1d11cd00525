"""How Halse Sound looks to eight bands: reflectance by surface, water column, cloud, glint."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.demo.fields import Field, noise, sensor_blurred, smooth
from spectrane.demo.land import Cover, Land
from spectrane.model.band import Band

BANDS: tuple[Band, ...] = (
    Band("B1", "blue", 490.0, "1", 1e-4),
    Band("B2", "green", 560.0, "1", 1e-4),
    Band("B3", "red", 665.0, "1", 1e-4),
    Band("B4", "rededge", 705.0, "1", 1e-4),
    Band("B5", "nir", 842.0, "1", 1e-4),
    Band("B6", "nir09", 945.0, "1", 1e-4),
    Band("B7", "swir16", 1610.0, "1", 1e-4),
    Band("B8", "swir22", 2190.0, "1", 1e-4),
)

# Reflectance in the order of BANDS, by cover. Believable, not measured.
_REFLECTANCE: dict[Cover, tuple[float, ...]] = {
    Cover.WATER: (0.190, 0.240, 0.270, 0.280, 0.300, 0.310, 0.330, 0.300),  # the sand below it
    Cover.EELGRASS: (0.018, 0.046, 0.024, 0.060, 0.180, 0.170, 0.080, 0.040),
    Cover.MUD: (0.068, 0.092, 0.106, 0.114, 0.104, 0.092, 0.050, 0.028),
    Cover.SALTMARSH: (0.033, 0.067, 0.056, 0.115, 0.250, 0.262, 0.160, 0.088),
    Cover.SAND: (0.210, 0.275, 0.335, 0.350, 0.385, 0.400, 0.450, 0.420),
    Cover.PASTURE: (0.030, 0.068, 0.040, 0.145, 0.420, 0.440, 0.230, 0.110),
    Cover.MEADOW: (0.036, 0.080, 0.060, 0.150, 0.350, 0.365, 0.250, 0.130),
    Cover.BARLEY: (0.076, 0.130, 0.156, 0.200, 0.300, 0.320, 0.375, 0.270),
    Cover.BLOSSOM: (0.045, 0.165, 0.150, 0.255, 0.460, 0.470, 0.240, 0.115),
    Cover.SOIL: (0.077, 0.111, 0.146, 0.175, 0.240, 0.262, 0.345, 0.310),
    Cover.PLOUGHED: (0.050, 0.068, 0.094, 0.112, 0.155, 0.168, 0.235, 0.215),
    Cover.HEDGE: (0.018, 0.040, 0.022, 0.085, 0.290, 0.300, 0.135, 0.058),
    Cover.CONIFER: (0.014, 0.028, 0.017, 0.056, 0.205, 0.212, 0.090, 0.038),
    Cover.BROADLEAF: (0.017, 0.042, 0.021, 0.098, 0.360, 0.375, 0.165, 0.068),
    Cover.HEATH: (0.029, 0.046, 0.056, 0.092, 0.185, 0.195, 0.190, 0.120),
    Cover.ROCK: (0.110, 0.125, 0.140, 0.150, 0.170, 0.175, 0.210, 0.190),
    Cover.ROAD: (0.085, 0.094, 0.102, 0.106, 0.114, 0.118, 0.140, 0.130),
    Cover.TILES: (0.090, 0.112, 0.215, 0.235, 0.265, 0.275, 0.300, 0.275),
    Cover.SLATE: (0.118, 0.124, 0.126, 0.130, 0.138, 0.140, 0.150, 0.140),
    Cover.GARDEN: (0.038, 0.070, 0.056, 0.120, 0.300, 0.310, 0.200, 0.110),
    Cover.CONCRETE: (0.250, 0.280, 0.300, 0.308, 0.318, 0.324, 0.335, 0.305),
    Cover.RAFT: (0.052, 0.052, 0.054, 0.056, 0.062, 0.062, 0.060, 0.050),
}
# Two-way loss per metre of water, and what deep and turbid water send back, by band.
_LOSS = (0.11, 0.13, 0.62, 1.0, 5.0, 9.0, 60.0, 60.0)
_DEEP = (0.036, 0.027, 0.009, 0.006, 0.003, 0.002, 0.001, 0.001)
_TURBID = (0.030, 0.058, 0.050, 0.042, 0.012, 0.006, 0.001, 0.000)
_CLOUD = (0.82, 0.80, 0.79, 0.79, 0.80, 0.76, 0.52, 0.40)
_SKY = (0.42, 0.36, 0.30, 0.29, 0.26, 0.25, 0.20, 0.18)
"""The share of light that reaches a cloud's shadow."""


def see(
    land: Land, x: Field, y: Field, seed: int, bands: Sequence[int] = range(len(BANDS))
) -> NDArray[np.uint16]:  # fmt: skip
    """Return reflectance times 10 000 (bands, rows, columns): what the sensor stores.

    The swath's slanted edges are filled with 0, which no tag says is no-data.
    """
    texture = _texture(land, x, y)
    cloud, shadow = _clouds(x, y)
    glint = _glint(land, x, y)
    shape = land.cover.shape
    outside = (x < 260 + 0.075 * y) | (x > 15050 - 0.075 * (11000 - y))
    random = default_rng(seed)
    out = np.empty((len(bands), *shape), np.uint16)
    for k, band in enumerate(bands):
        seen = _ground(land, texture, band)
        seen = seen * (1 - shadow * (1 - _SKY[band])) + glint
        seen = sensor_blurred(seen) * (1 - cloud) + _CLOUD[band] * cloud
        stored = seen * 10000 + random.normal(0, 14, shape)
        out[k] = np.where(outside, 0, np.clip(stored, 1, 20000))
    return out


def clear_view(land: Land, x: Field, y: Field, bands: Sequence[int]) -> list[Field]:
    """Return reflectance in some bands, without cloud, glint or noise."""
    texture = _texture(land, x, y)
    return [sensor_blurred(_ground(land, texture, band)) for band in bands]


def under_cloud(seen: Field, cloud: Field, shadow: Field, band: int) -> Field:
    """Return reflectance under a cover of cloud and its shadow, each 0…1."""
    lit = seen * (1 - shadow * (1 - _SKY[band])) * (1 - cloud)
    return np.asarray(lit + _CLOUD[band] * cloud)


def _texture(land: Land, x: Field, y: Field) -> Field:
    """Return a factor about 1: crowns in woods, patches in fields, ripples on sand."""
    rough = np.full(len(Cover), 0.07, np.float32)
    rough[[Cover.CONIFER, Cover.BROADLEAF, Cover.HEDGE]] = 0.42
    rough[[Cover.GARDEN, Cover.TILES, Cover.SLATE, Cover.HEATH, Cover.ROCK]] = 0.22
    rough[[Cover.WATER, Cover.CONCRETE, Cover.ROAD]] = 0.03
    rough[[Cover.EELGRASS, Cover.SALTMARSH, Cover.MUD]] = 0.18
    patches = 0.10 * noise(x, y, 420, 131, 3)
    return 1 + rough[land.cover] * noise(x, y, 34, 127, 2) + patches


def _ground(land: Land, texture: Field, band: int) -> Field:
    """Return what comes back from ground and water in one band, without cloud or glint."""
    table = np.array([_REFLECTANCE[cover][band] for cover in Cover], np.float32)
    surface = table[land.cover] * texture
    wet = (land.cover == Cover.WATER) | (land.cover == Cover.EELGRASS)
    kept = np.exp(-np.float32(_LOSS[band]) * land.depth)
    column = _DEEP[band] + _TURBID[band] * land.turbid * (0.8 + 0.2 * texture)
    water = surface * kept + column * (1 - kept) + 0.34 * land.foam * (1 - 0.05 * band)
    return np.where(wet, water, surface * land.light)


def _clouds(x: Field, y: Field) -> tuple[Field, Field]:
    """Return the cover of a cloud, and of its shadow, which falls to the north-west."""
    return _cloud(x, y), 0.85 * _cloud(x + 780, y - 640)


def _cloud(x: Field, y: Field) -> Field:
    bank = 1.0 - np.hypot((x - 12100) / 1900, (y - 9500) / 750)
    puffs = 0.66 - np.hypot((x - 9700) / 1300, (y - 2000) / 800)
    shape = np.maximum(bank, puffs) + 0.85 * noise(x, y, 1300, 137, 6)
    return smooth(0.30, 0.95, shape) * np.float32(0.97)


def _glint(land: Land, x: Field, y: Field) -> Field:
    """Return the sun's glitter on the open sea: a bright patch drawn out by the waves."""
    open_sea = smooth(6, 16, land.depth)
    patch = np.exp(-(((x - 1500) / 800) ** 2) - ((y - 1500) / 1000) ** 2)
    waves = 0.5 + 0.5 * noise(x * 0.45 + y * 0.25, y - 0.4 * x, 75, 139, 3)
    swell = 0.006 * noise(x * 0.5, y + 0.5 * x, 160, 149, 3)
    return np.asarray(open_sea * (0.70 * patch * waves**3 + swell), np.float32)
