"""Smooth random fields and distances: what landscapes are made of."""

from __future__ import annotations

from collections.abc import Sequence
from functools import lru_cache
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.random import default_rng  # at once: an interrupt while NumPy loads it is lost
from numpy.typing import NDArray

Field = NDArray[Any]
"""float32, except where a step of the making needs more."""


def noise(x: Field, y: Field, wavelength: float, seed: int, octaves: int = 5) -> Field:
    """Return fractal noise of about -1 to 1 at positions in metres.

    Lattice noise with a quintic blend, each octave of half the wavelength and half the height;
    the same position gives the same number at any resolution. Positions are arrays that
    broadcast; a row of x and a column of y are several times faster than full arrays.
    """
    total = np.zeros(np.broadcast_shapes(x.shape, y.shape), np.float32)
    height, norm = 1.0, 0.0
    for octave in range(octaves):
        total += np.float32(height) * _lattice(x / wavelength, y / wavelength, seed + 101 * octave)
        norm += height
        wavelength, height = wavelength / 2.0, height * 0.5
    return np.asarray(total * np.float32(1.6 / norm))


def _lattice(x: Field, y: Field, seed: int) -> Field:
    table = _heights(seed)
    column, row = np.floor(x).astype(np.int32), np.floor(y).astype(np.int32)
    u, v = _faded(x - column), _faded(y - row)
    left, right, top, bottom = column & 255, (column + 1) & 255, row & 255, (row + 1) & 255
    if x.shape[0] == 1 and y.shape[1] == 1:
        lines = table[top[:, 0]] * (1 - v) + table[bottom[:, 0]] * v
        return np.asarray(lines[:, left[0]] * (1 - u) + lines[:, right[0]] * u)
    above = table[top, left] * (1 - u) + table[top, right] * u
    below = table[bottom, left] * (1 - u) + table[bottom, right] * u
    return np.asarray(above * (1 - v) + below * v)


@lru_cache(maxsize=128)
def _heights(seed: int) -> Field:
    return default_rng(seed).uniform(-1, 1, (256, 256)).astype(np.float32)


def _faded(t: Field) -> Field:
    return np.asarray(t * t * t * (t * (t * 6 - 15) + 10))


def smooth(low: float, high: float, value: Field) -> Field:
    """Return 0 below ``low``, 1 above ``high``, and a smooth step between."""
    t = np.clip((value - np.float32(low)) / np.float32(high - low), 0, 1)
    return np.asarray(t * t * (3 - 2 * t))


def along_line(x: Field, y: Field, points: Sequence[tuple[float, float]]) -> tuple[Field, Field]:
    """Return the distance to a line through points, and the share of the way along it (0...1)."""
    shape = np.broadcast_shapes(x.shape, y.shape)
    best, share = np.full(shape, np.inf, np.float32), np.zeros(shape, np.float32)
    legs = list(pairwise(points))
    for number, ((x0, y0), (x1, y1)) in enumerate(legs):
        dx, dy = x1 - x0, y1 - y0
        t = np.clip(((x - x0) * dx + (y - y0) * dy) / (dx * dx + dy * dy), 0, 1)
        distance = np.hypot(x - (x0 + t * dx), y - (y0 + t * dy)).astype(np.float32)
        nearer = distance < best
        best = np.where(nearer, distance, best)
        share = np.where(nearer, (number + t) / len(legs), share).astype(np.float32)
    return best, share


def scattered(column: NDArray[np.int64], row: NDArray[np.int64], seed: int) -> Field:
    """Return an even random number in 0...1 for each cell of a lattice."""
    mixed = (column * 73856093) ^ (row * 19349663) ^ (seed * 83492791)
    mixed = (mixed ^ (mixed >> 13)) * 1274126177
    return ((mixed ^ (mixed >> 16)) & 0xFFFF).astype(np.float32) / np.float32(65535)


def turned_axes(x: Field, y: Field, degrees: float) -> tuple[Field, Field]:
    """Return positions in axes turned by an angle."""
    c, s = np.cos(np.radians(degrees)), np.sin(np.radians(degrees))
    return (x * c + y * s).astype(np.float32), (y * c - x * s).astype(np.float32)


def sensor_blurred(values: Field) -> Field:
    """Return a field seen by a sensor whose pixels overlap a little (1 2 1 in each direction)."""
    wide = np.pad(values, 1, mode="edge")
    across = (wide[:, :-2] + 2 * wide[:, 1:-1] + wide[:, 2:]) / 4
    return np.asarray((across[:-2] + 2 * across[1:-1] + across[2:]) / 4, np.float32)
