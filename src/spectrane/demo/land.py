"""The lie of the land: where Halse Sound's water, hills, fields and houses are.

Positions are metres east and north of the scene's lower left corner; the scene is 15 by 11 km.
"""

from __future__ import annotations

from enum import IntEnum

import numpy as np
from numpy.typing import NDArray

from spectrane.demo.fields import Field, along_line, noise, scattered, smooth, turned_axes
from spectrane.kernels.records import record

WIDTH, HEIGHT = 15000.0, 11000.0
_MAIN = [(2500.0, 4300.0), (5200.0, 5000.0), (7400.0, 5300.0), (9300.0, 6300.0),
         (11000.0, 7900.0), (13600.0, 8700.0)]  # fmt: skip
_ARM = [(7900.0, 5450.0), (9600.0, 4500.0), (11300.0, 3700.0), (12500.0, 2300.0)]
_BARRAGE = ((7150.0, 6700.0), (7750.0, 3900.0))
_VILLAGE = (7850.0, 3250.0)
_ROADS = (
    [(7750.0, 3900.0), (7850.0, 3250.0), (8600.0, 2300.0), (10400.0, 1500.0), (15000.0, 900.0)],
    [(7850.0, 3250.0), (6500.0, 2300.0), (6000.0, 900.0), (5900.0, 0.0)],
    [(7150.0, 6700.0), (7000.0, 8200.0), (8300.0, 9700.0), (8600.0, 11000.0)],
)


class Cover(IntEnum):
    """What covers the ground; the numbers index the table of spectra."""

    WATER = 0
    EELGRASS = 1
    MUD = 2
    SALTMARSH = 3
    SAND = 4
    PASTURE = 5
    MEADOW = 6
    BARLEY = 7
    BLOSSOM = 8
    SOIL = 9
    PLOUGHED = 10
    HEDGE = 11
    CONIFER = 12
    BROADLEAF = 13
    HEATH = 14
    ROCK = 15
    ROAD = 16
    TILES = 17
    SLATE = 18
    GARDEN = 19
    CONCRETE = 20
    RAFT = 21


@record(frozen=True)
class Land:
    """Fields over the scene: cover, ground height and water depth in metres, and the light."""

    cover: NDArray[np.uint8]
    height: Field
    depth: Field
    light: Field
    foam: Field
    turbid: Field


def make_land(x: Field, y: Field) -> Land:
    """Build the land at positions in metres: a row of x, a column of y."""
    shore = _shore(x, y)
    height = _height(x, y, shore)
    depth = np.maximum(0, -shore * 0.014 + noise(x, y, 900, 31, 4) * 1.6).astype(np.float32)
    depth = np.where(shore < 0, np.minimum(depth, 26), 0)
    across, along, beside = _barrage_axes(x, y)
    cover = np.full(shore.shape, Cover.WATER, np.uint8)
    _cover_land(cover, x, y, shore, height)
    _cover_shallows(cover, x, y, shore, depth)
    _build(cover, x, y, shore)
    _set_barrage(cover, shore, across, along, beside)
    inside = smooth(-200, 200, across)
    turbid = np.clip(0.25 + 0.5 * inside + 0.5 * noise(x, y, 1800, 77, 4), 0, 1)
    turbid = turbid * smooth(3500, 6500, x)
    foam = _foam(x, y, across, along, beside)
    return Land(cover, height, depth, _light(height, x, y), foam, turbid.astype(np.float32))


def _shore(x: Field, y: Field) -> Field:
    """Return metres inland from the waterline, negative on water."""
    coast = x - (3700 + 700 * noise(x * 0, y, 5200, 11, 4) + 0.05 * y)
    main, far = along_line(x, y, _MAIN)
    arm, out = along_line(x, y, _ARM)
    sound = main - (1250 * (1 - far) ** 1.15 + 130)
    creek = arm - (480 * (1 - out) ** 1.1 + 50)
    crooked = noise(x, y, 1700, 5, 6) * 420
    return np.asarray(np.minimum(np.minimum(coast, sound), creek) + crooked, np.float32)


def _height(x: Field, y: Field, shore: Field) -> Field:
    inland = smooth(0, 2600, shore)
    ridges = 1 - np.abs(noise(x, y, 4200, 17, 6))
    hills = 26 * smooth(0, 500, shore) + inland * (150 * ridges**2 + 60 * noise(x, y, 1500, 23, 5))
    return np.where(shore > 0, np.maximum(hills, 0.5), 0).astype(np.float32)


def _light(height: Field, x: Field, y: Field) -> Field:
    """Return how much sun the ground gets, 1 on the flat: sun in the south-east, 38° up."""
    down, east = float(y[0, 0] - y[1, 0]), float(x[0, 1] - x[0, 0])
    by_row, by_column = np.gradient(height)
    slope_x, slope_y = by_column / east, -by_row / down
    azimuth, altitude = np.radians(140), np.radians(38)
    sun = (np.sin(azimuth) * np.cos(altitude), np.cos(azimuth) * np.cos(altitude), np.sin(altitude))
    facing = (-slope_x * sun[0] - slope_y * sun[1] + sun[2]) / np.sqrt(1 + slope_x**2 + slope_y**2)
    return np.asarray(np.clip(facing / sun[2], 0.35, 1.45), np.float32)


def _cover_land(cover: NDArray[np.uint8], x: Field, y: Field, shore: Field, height: Field) -> None:
    land = shore > 0
    damp = noise(x, y, 2400, 41, 5)
    fine = noise(x, y, 260, 43, 3)
    cover[land] = Cover.PASTURE
    cover[land & (damp + 0.3 * fine > 0.35)] = Cover.MEADOW
    _cover_farms(cover, x, y, land & (shore > 260) & (height < 88 + 30 * damp) & (damp < 0.42))
    woods = land & (shore > 200) & (noise(x, y, 1500, 47, 5) + 0.004 * (height - 70) > 0.22)
    cover[woods] = Cover.BROADLEAF
    cover[woods & (noise(x, y, 900, 53, 3) + 0.005 * (height - 80) > 0.15)] = Cover.CONIFER
    bare = land & (height + 34 * noise(x, y, 700, 59, 4) > 158)
    cover[bare] = Cover.HEATH
    cover[land & (height + 26 * fine > 206)] = Cover.ROCK


def _cover_farms(cover: NDArray[np.uint8], x: Field, y: Field, where: NDArray[np.bool_]) -> None:
    """Lay out fields: two grids of different bearing, cells cut in halves here and there."""
    bearing = noise(x, y, 5200, 61, 1) > 0
    for turn, chosen, seed in ((21.0, bearing, 1), (-34.0, ~bearing, 2)):
        u, v = turned_axes(x + 30 * noise(x, y, 800, 67, 2), y, turn)
        row = np.floor(v / 210).astype(np.int64)
        u = u + 180 * scattered(row, row * 0, seed)
        column = np.floor(u / 300).astype(np.int64)
        half = (scattered(column, row, seed + 7) > 0.55) & (np.mod(u, 300) > 150)
        kind = scattered(column * 2 + half, row, seed + 13)
        edge = np.minimum(np.mod(u, 150 if seed else 300), np.mod(v, 210))
        crops = np.select(
            [kind < 0.30, kind < 0.48, kind < 0.66, kind < 0.76, kind < 0.90],
            [Cover.PASTURE, Cover.BARLEY, Cover.MEADOW, Cover.BLOSSOM, Cover.SOIL],
            Cover.PLOUGHED,
        )
        here = where & chosen
        cover[here] = crops[here]
        hedged = here & (edge < 11) & (scattered(column, row, seed + 29) > 0.35)
        cover[hedged] = Cover.HEDGE


def _cover_shallows(
    cover: NDArray[np.uint8], x: Field, y: Field, shore: Field, depth: Field
) -> None:
    sheltered = smooth(4600, 6200, x)
    creeks = np.abs(noise(x, y, 520, 71, 4))
    marsh = (shore > 0) & (shore < 60 + 210 * sheltered * (1 + noise(x, y, 900, 73, 3)))
    marsh &= x > 5200
    cover[marsh] = Cover.SALTMARSH
    cover[marsh & (creeks < 0.045)] = Cover.MUD
    beach = (shore > 0) & (shore < 75 + 60 * noise(x, y, 1100, 79, 3)) & (x < 5400)
    cover[beach] = Cover.SAND
    flats = (shore <= 0) & (shore > -40 - 330 * smooth(7600, 9400, x)) & (x > 5600)
    cover[flats & (creeks > 0.07)] = Cover.MUD
    beds = (shore < -30) & (depth > 0.8) & (depth < 5.5) & (x > 3000) & (x < 8200)
    cover[beds & (noise(x, y, 420, 83, 4) + 0.5 * noise(x, y, 90, 89, 2) > 0.06)] = Cover.EELGRASS


def _build(cover: NDArray[np.uint8], x: Field, y: Field, shore: Field) -> None:
    """Set roads, the village, and rows of mussel rafts."""
    land = shore > 10
    for road in _ROADS:
        distance, _ = along_line(x + 40 * noise(x, y, 900, 97, 2), y, road)
        cover[land & (distance < 9)] = Cover.ROAD
    u, v = turned_axes(x - _VILLAGE[0], y - _VILLAGE[1], 12)
    reach = np.hypot(u, v * 1.35) + 140 * noise(x, y, 350, 103, 3)
    plots = scattered(np.floor(u / 22).astype(np.int64), np.floor(v / 22).astype(np.int64), 107)
    dense = land & (reach < 620)
    house = dense & (plots > 0.48 + 0.0005 * reach)
    cover[dense & ~house] = Cover.GARDEN
    cover[house] = np.where(plots[house] > 0.82, Cover.SLATE, Cover.TILES)
    street = dense & ((np.mod(u, 130) < 11) | (np.mod(v, 110) < 11)) & (reach < 560)
    cover[street] = Cover.ROAD
    u, v = turned_axes(x - 5500, y - 4950, 14)
    raft = (np.mod(u, 62) < 24) & (np.mod(v, 95) < 34) & (np.abs(u - 620) < 620)
    raft &= (np.abs(v) < 285) & (shore < -220)
    cover[raft] = Cover.RAFT


def _barrage_axes(x: Field, y: Field) -> tuple[Field, Field, Field]:
    """Return metres up-sound of the barrage, metres along it, and whether beside its length."""
    (x0, y0), (x1, y1) = _BARRAGE
    length = float(np.hypot(x1 - x0, y1 - y0))
    ax, ay = (x1 - x0) / length, (y1 - y0) / length
    along = (x - x0) * ax + (y - y0) * ay
    across = -(x - x0) * ay + (y - y0) * ax
    beside = smooth(-40, 0, along) * smooth(-40, 0, length - along)
    return across.astype(np.float32), along.astype(np.float32), beside.astype(np.float32)


def _set_barrage(
    cover: NDArray[np.uint8], shore: Field, across: Field, along: Field, beside: Field
) -> None:
    wall = (np.abs(across) < 20) & (beside > 0.5) & (shore < 90)
    cover[wall] = Cover.CONCRETE
    cover[wall & (np.abs(across) < 7)] = Cover.ROAD
    piers = (np.abs(across) < 38) & (np.mod(along, 120) < 18) & (np.abs(along - 1350) < 500)
    cover[piers & (beside > 0.5)] = Cover.CONCRETE


def _foam(x: Field, y: Field, across: Field, along: Field, beside: Field) -> Field:
    """Return foam of 0 to 1: sluices discharge seaward, surf breaks on the open coast."""
    seaward = -across
    jets = 0.5 + 0.5 * np.cos(2 * np.pi * along / 120)
    wake = np.exp(-np.maximum(seaward, 0) / 260) * smooth(15, 40, seaward) * beside
    wake *= np.exp(-(((along - 1350) / 430) ** 2)) * (0.4 + 0.6 * jets)
    return np.clip(wake * (0.8 + 0.5 * noise(x, y, 120, 113, 3)), 0, 1).astype(np.float32)
