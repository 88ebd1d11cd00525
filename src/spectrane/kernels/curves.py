"""The display curves, as float64 definitions: t = f(u), u and t in 0...1."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

Curve: TypeAlias = Callable[[NDArray[np.float64]], NDArray[np.float64]]
FloatArray: TypeAlias = NDArray[np.float64]


def linear(u: FloatArray) -> FloatArray:
    """Return u itself."""
    return u


def sqrt(u: FloatArray) -> FloatArray:
    """Return the square root."""
    return np.sqrt(u)


def square(u: FloatArray) -> FloatArray:
    """Return the square."""
    return u * u


def gamma(g: float) -> Curve:
    """Return u^(1/g)."""
    return lambda u: u ** (1.0 / g)


def log(decades: float) -> Curve:
    """Return log10(1 + (10^d - 1) u) / d.

    >>> log(3.0)(np.array([0.0, 1.0])).tolist()
    [0.0, 1.0]
    """
    return lambda u: np.log10(1.0 + (10.0**decades - 1.0) * u) / decades


def asinh(share: float) -> Curve:
    """Return asinh(u / s) / asinh(1 / s)."""
    return lambda u: np.arcsinh(u / share) / np.arcsinh(1.0 / share)


def logistic(s: float) -> Curve:
    """Return the logistic function of s (u - ½), moved and scaled so that 0 and 1 are kept."""

    def plain(u: FloatArray) -> FloatArray:
        return 1.0 / (1.0 + np.exp(-s * (u - 0.5)))

    low, high = (float(plain(np.array(end))) for end in (0.0, 1.0))
    return lambda u: (plain(u) - low) / (high - low)


def window_linear(center: float, width: float) -> Curve:
    """Return t of physical values by the function LINEAR (PS3.3 C.11.2.1.2.1).

    >>> window_linear(0.0, 100.0)(np.array([-50.0, -49.0, 49.0, 50.0])).round(3).tolist()
    [0.0, 0.01, 1.0, 1.0]
    """

    def curve(values: FloatArray) -> FloatArray:
        middle, reach = center - 0.5, (width - 1) / 2
        with np.errstate(divide="ignore", invalid="ignore"):
            t = (values - middle) / (width - 1) + 0.5
        return _ended(values, t, middle - reach, middle + reach)

    return curve


def window_exact(center: float, width: float) -> Curve:
    """Return t of physical values by the function LINEAR_EXACT (PS3.3 C.11.2.1.3.2).

    >>> window_exact(0.0, 100.0)(np.array([-50.0, 0.0, 50.0])).tolist()
    [0.0, 0.5, 1.0]
    """

    def curve(values: FloatArray) -> FloatArray:
        t = (values - center) / width + 0.5
        return _ended(values, t, center - width / 2, center + width / 2)

    return curve


def _ended(values: FloatArray, t: FloatArray, low: float, high: float) -> FloatArray:
    return np.where(values <= low, 0.0, np.where(values > high, 1.0, t))


def window_sigmoid(center: float, width: float) -> Curve:
    """Return t of physical values by the function SIGMOID (PS3.3 C.11.2.1.3.1).

    >>> window_sigmoid(40.0, 400.0)(np.array([40.0])).tolist()
    [0.5]
    """

    def curve(values: FloatArray) -> FloatArray:
        with np.errstate(over="ignore"):
            return np.asarray(1.0 / (1.0 + np.exp(-4.0 * (values - center) / width)))

    return curve


def window_table(first: float, levels: Sequence[float]) -> Curve:
    """Return t of physical values by a VOI LUT: entry by entry, its ends for all beyond.

    >>> window_table(-1.0, [1.0, 0.0, 0.5])(np.array([-9.0, 0.0, 7.0])).tolist()
    [1.0, 0.0, 0.5]
    """
    held = np.append(np.asarray(levels, np.float64), np.nan)

    def curve(values: FloatArray) -> FloatArray:
        at = np.clip(np.floor(values - first + 0.5), 0, len(held) - 2)
        return np.asarray(held[np.where(np.isnan(at), len(held) - 1, at).astype(np.intp)])

    return curve


def points(numbers: Sequence[float]) -> Curve:
    """Return the line through (u, t) points, held constant beyond its ends."""
    us, ts = np.array(numbers[::2], np.float64), np.array(numbers[1::2], np.float64)
    return lambda u: np.where(np.isnan(u), np.nan, np.interp(u, us, ts))


def shares(values: FloatArray, cumulated: FloatArray) -> Curve:
    """Return the share of values at or below u, from the distinct values' positions in order."""

    def curve(u: FloatArray) -> FloatArray:
        found = cumulated[np.searchsorted(values, u, side="right")]
        return np.where(np.isnan(u), np.nan, found)

    return curve


def position(values: NDArray[Any], low: float, high: float) -> FloatArray:
    """Return u = clip((v - low)/(high - low), 0, 1) in float64, any shape; NaN stays NaN.

    low > high inverts. Where low = high, values below are 0, above 1, and equal ½.

    >>> position(np.array([0.0, 5.0, 20.0]), 0.0, 10.0).tolist()
    [0.0, 0.5, 1.0]
    >>> position(np.array([1.0, 2.0, 3.0]), 2.0, 2.0).tolist()
    [0.0, 0.5, 1.0]
    """
    values = np.asarray(values, np.float64)
    if low == high:
        return np.where(np.isnan(values), np.nan, (np.sign(values - low) + 1) / 2)
    with np.errstate(invalid="ignore", over="ignore"):
        u = (values - low) / (high - low)
    return np.clip(u, 0.0, 1.0)


def shade(values: NDArray[Any], low: float, high: float, curve: Curve, invert: bool) -> FloatArray:
    """Return t of physical values: position, curve, inversion."""
    t = curve(position(values, low, high))
    return 1.0 - t if invert else t


def level(t: FloatArray, top: int) -> FloatArray:
    """Return the level floor(t * top + ½), as floats; NaN stays NaN.

    >>> level(np.array([0.0, 0.5, 1.0]), 255).tolist()
    [0.0, 128.0, 255.0]
    """
    return np.floor(t * top + 0.5)
