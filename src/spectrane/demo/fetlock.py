"""The fetlock study: a made-up trial of bone loading in horses, as volumes.

Lengths are millimetres of the patient's axes, x to the right, y to the front, z to the head; the
joint's gap lies at z = 0. Values are Hounsfield units: air -1000, water 0, bone 1500.
"""

from __future__ import annotations

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.model.frame import Frame
from spectrane.opening import volume_from_array
from spectrane.volume import Volume

F64 = NDArray[np.float64]
AIR, FLUID, MARROW, SOFT, SPONGY, CORTEX = -1000.0, 20.0, -60.0, 55.0, 420.0, 1480.0


def joint(x: F64, y: F64, z: F64) -> F64:
    """Return Hounsfield units at places in millimetres."""
    bend = 0.0016 * np.minimum(z, 0) ** 2
    y = y - bend + 4
    leg = np.hypot(x / (33 + 0.05 * z), y / (36 + 0.06 * np.abs(z)))
    out = np.where(leg < 1, SOFT, AIR)
    out = np.where((leg >= 0.965) & (leg < 1), 10.0, out)  # skin
    _tendons(out, x, y, z)
    out = np.where(_capsule(x, y, z), FLUID, out)
    for bone in (_cannon, _pastern, _sesamoid):
        inside, depth = bone(x, y, z)
        core = np.where(np.abs(z) < 24, SPONGY + 60 * np.sin(x * 1.1) * np.sin(z * 0.9), MARROW)
        shell = np.clip((depth - 1.8) / 1.6, 0, 1)
        value = CORTEX * (1 - shell) + core * shell
        out = np.where(inside, value, out)
    return np.asarray(out)


def _tendons(out: F64, x: F64, y: F64, z: F64) -> None:
    for middle, wide, deep in ((-27.0, 11.0, 4.0), (-33.5, 9.0, 2.8)):
        cord = np.hypot(x / wide, (y - middle - 0.02 * z) / deep) < 1
        out[cord] = 95.0


def _capsule(x: F64, y: F64, z: F64) -> NDArray[np.bool_]:
    return np.asarray(np.sqrt((x / 27) ** 2 + (y / 22) ** 2 + (z / 11) ** 2) < 1)


def _cannon(x: F64, y: F64, z: F64) -> tuple[NDArray[np.bool_], F64]:
    """Return the bone above the joint: a shaft that widens to two condyles and a sagittal ridge."""
    flare = np.exp(-(((z - 6) / 15) ** 2))
    wide, deep = 15 + 9 * flare, 12.5 + 5 * flare
    radius = np.hypot(x / wide, y / deep)
    ridge = 3.0 * np.exp(-((x / 3.5) ** 2))
    base = 2.0 - ridge + 0.012 * x**2 * 0.4 + 0.012 * y**2
    depth = np.minimum((1 - radius) * np.minimum(wide, deep), z - base)
    return depth > 0, np.asarray(depth)


def _pastern(x: F64, y: F64, z: F64) -> tuple[NDArray[np.bool_], F64]:
    """Return the bone below the joint, with a groove for the ridge."""
    flare = np.exp(-(((z + 8) / 13) ** 2))
    wide, deep = 13 + 10 * flare, 10.5 + 6 * flare
    radius = np.hypot(x / wide, y / deep)
    top = -1.6 - 3.0 * np.exp(-((x / 3.5) ** 2)) + 0.012 * x**2 * 0.4 + 0.012 * y**2
    depth = np.minimum((1 - radius) * np.minimum(wide, deep), top - z)
    return depth > 0, np.asarray(depth)


def _sesamoid(x: F64, y: F64, z: F64) -> tuple[NDArray[np.bool_], F64]:
    """Return the pair of small bones behind the joint."""
    away = np.abs(x) - 8.5
    radius = np.sqrt((away / 6.2) ** 2 + ((y + 20.5) / 5.2) ** 2 + ((z - 4) / 10) ** 2)
    depth = (1 - radius) * 5.2
    return depth > 0, np.asarray(depth)


def voxel_positions(volume_affine: F64, shape: tuple[int, int, int]) -> tuple[F64, F64, F64]:
    """Return x, y and z (mm) of every voxel's centre."""
    i, j, k = np.meshgrid(*map(np.arange, shape), indexing="ij", copy=False)
    turn, place = volume_affine[:3, :3], volume_affine[:3, 3]
    x, y, z = (turn[a, 0] * i + turn[a, 1] * j + turn[a, 2] * k + place[a] for a in range(3))
    return x, y, z


def computed_tomography(seed: int, scale: float = 1.0) -> Volume:
    """Return the joint as int16 Hounsfield units; columns run from right to left."""
    side, gap = 0.7 / scale, 1.2 / scale
    shape = (round(112 * scale), round(120 * scale), round(96 * scale))
    affine = np.array([
        [-side, 0, 0, side * (shape[0] - 1) / 2], [0, side, 0, -side * (shape[1] - 1) / 2 - 3],
        [0, 0, gap, -gap * (shape[2] - 1) / 2], [0, 0, 0, 1],
    ])  # fmt: skip
    values = joint(*voxel_positions(affine, shape))
    random = default_rng(seed)
    streaks = 14 * np.sin(np.arange(shape[1]) * 0.9)[None, :, None]
    values = values + random.normal(0, 26, shape) + streaks * (values > -900)
    stored = np.clip(np.round(values), -1024, 3071).astype(np.int16)
    return volume_from_array(stored, affine=affine, frames=[Frame("attenuation", "HU")])


def effect(seed: int) -> Volume:
    """Return the trial's map: coarser, turned; change of density, its t, and the contrast."""
    tilt = np.radians(11)
    turn = np.array([[np.cos(tilt), -np.sin(tilt), 0], [np.sin(tilt), np.cos(tilt), 0], [0, 0, 1]])
    shape = (30, 32, 36)
    affine = np.eye(4)
    affine[:3, :3] = turn * 2.6
    affine[:3, 3] = -affine[:3, :3] @ ((np.array(shape) - 1) / 2)
    x, y, z = voxel_positions(affine, shape)
    bone = joint(x, y, z) > 300
    random = default_rng(seed + 1)
    loaded = 62 * np.exp(-(((x - 12) / 8) ** 2 + (y / 11) ** 2 + ((z - 9) / 9) ** 2))
    relieved = -45 * np.exp(-(((x + 13) / 7) ** 2 + (y / 10) ** 2 + ((z + 11) / 8) ** 2))
    change = loaded + relieved + random.normal(0, 5, shape)
    t = change / (7.0 + random.uniform(0, 1.5, shape))
    frames = np.stack([change, t, change * 0.5 + random.normal(0, 2, shape)])
    frames = np.where(bone, frames, np.nan).astype(np.float32)
    named = [Frame("change", "HU"), Frame("t"), Frame("contrast", "HU")]
    return volume_from_array(frames, affine=affine, frames=named)
