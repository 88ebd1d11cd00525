"""OKLab: a colour space in which equal steps look equal, and lightness can be told from colour.

Björn Ottosson, "A perceptual color space for image processing" (2020); the numbers are those of the
CSS Color Module Level 4, section 10.
"""

from __future__ import annotations

from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

F64: TypeAlias = NDArray[np.float64]

_TO_LMS = np.array([
    [0.4122214708, 0.5363325363, 0.0514459929],
    [0.2119034982, 0.6806995451, 0.1073969566],
    [0.0883024619, 0.2817188376, 0.6299787005],
])  # fmt: skip
_TO_LAB = np.array([
    [0.2104542553, 0.7936177850, -0.0040720468],
    [1.9779984951, -2.4285922050, 0.4505937099],
    [0.0259040371, 0.7827717662, -0.8086757660],
])  # fmt: skip
_FROM_LMS, _FROM_LAB = np.linalg.inv(_TO_LMS), np.linalg.inv(_TO_LAB)


def linear_light(srgb: F64) -> F64:
    """Return linear light of sRGB components 0...1 (IEC 61966-2-1)."""
    return np.where(srgb <= 0.04045, srgb / 12.92, ((np.maximum(srgb, 0) + 0.055) / 1.055) ** 2.4)


def encoded(light: F64) -> F64:
    """Return sRGB components of linear light."""
    bent = 1.055 * np.maximum(light, 1e-12) ** (1 / 2.4) - 0.055
    return np.where(light <= 0.0031308, light * 12.92, bent)


def to_oklab(srgb: F64) -> F64:
    """Return (…, 3) lightness, a, b of (…, 3) sRGB components 0...1.

    >>> np.round(to_oklab(np.array([1.0, 1.0, 1.0])), 3).tolist()[0]
    1.0
    """
    return np.asarray(np.cbrt(linear_light(srgb) @ _TO_LMS.T) @ _TO_LAB.T)


def from_oklab(lab: F64) -> F64:
    """Return sRGB components; outside 0...1 where a screen cannot show the colour."""
    return encoded((lab @ _FROM_LAB.T) ** 3 @ _FROM_LMS.T)


def shown(lab: F64) -> F64:
    """Return sRGB components with chroma taken back as far as a screen needs; lightness stays."""
    rgb = from_oklab(lab)
    beyond = ~_fits(rgb)
    if beyond.any():
        rgb[beyond] = _taken_back(lab[beyond])
    return np.clip(rgb, 0, 1)


def _fits(rgb: F64) -> NDArray[np.bool_]:
    return np.asarray(((rgb >= -1e-6) & (rgb <= 1 + 1e-6)).all(axis=-1))


def _taken_back(lab: F64) -> F64:
    """Return sRGB components of (n, 3) colours with as much of their chroma as a screen shows."""
    low, high = np.zeros(len(lab)), np.ones(len(lab))
    for _ in range(24):
        middle = (low + high) / 2
        fits = _fits(_with_chroma(lab, middle))
        low, high = np.where(fits, middle, low), np.where(fits, high, middle)
    return _with_chroma(lab, low)


def _with_chroma(lab: F64, share: F64) -> F64:
    return from_oklab(lab * np.stack([np.ones_like(share), share, share], axis=-1))
