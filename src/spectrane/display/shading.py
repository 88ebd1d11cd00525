"""One channel's way from stored numbers to levels, in the form its type is fastest in."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels import curves, steps, tables
from spectrane.model.band import Band
from spectrane.model.display_window import SATURATED, DisplayWindow
from spectrane.model.look import Setting, parse_curve

_ROWS = 64

CURVES: dict[str, Callable[..., curves.Curve]] = {
    "linear": lambda: curves.linear,
    "sqrt": lambda: curves.sqrt,
    "square": lambda: curves.square,
    "gamma": curves.gamma,
    "log": curves.log,
    "asinh": curves.asinh,
    "logistic": curves.logistic,
    "points": lambda *numbers: curves.points(numbers),
}
"""Name -> a function from the curve's parameters to the curve."""


def curve_of(setting: Setting) -> curves.Curve:
    """Return a curve that needs no values of the image."""
    return CURVES[setting.kind](*setting.parameters)


def curve_named(text: str) -> curves.Curve:
    """Return the curve that a scale names; those that need the image's values are left linear."""
    kind = text.partition(":")[0]
    if kind in ("equalise", "points", "table"):
        return curves.linear
    if kind == "sigmoid":  # between the limits that a window of this function is said to have
        return curves.window_sigmoid(0.5, 1 / (2 * SATURATED))
    return curve_of(parse_curve(text))


def formula_of(window: DisplayWindow) -> tuple[str, curves.Curve]:
    """Return the function of physical values of a file's own window, and what it is called."""
    center, width = window.center, window.width
    if window.table:
        return "table", curves.window_table(window.first, window.table)
    if window.function == "SIGMOID":
        return "sigmoid", curves.window_sigmoid(center, width)
    exact = window.function == "LINEAR_EXACT"
    return "linear", (curves.window_exact if exact else curves.window_linear)(center, width)


@dataclass(frozen=True)
class Scale:
    """How one channel is shown: its band and unit, the limits in physical values, the curve.

    ``limits`` is the rule the limits came from; ``exact`` is False where they were found from a
    part of the pixels.
    """

    band: str
    low: float
    high: float
    curve: str
    invert: bool
    unit: str | None
    exact: bool
    limits: str

    def __str__(self) -> str:
        """Say it in a line."""
        unit = f" {self.unit}" if self.unit not in (None, "1") else ""
        about = "" if self.exact else ", about"
        inverted = ", inverted" if self.invert else ""
        return (
            f"{self.band} {self.low:.6g} to {self.high:.6g}{unit} ({self.limits}{about}{inverted})"
        )


@dataclass(frozen=True)
class Palette:
    """The colours of one channel as picture words: one per entry of a colour map.

    With ``ends``, a colour for what lies below the limits stands before them, and one for what
    lies above after them; a falling scale turns the two round.
    """

    words: NDArray[np.uint32]
    ends: bool = False

    @property
    def entries(self) -> int:
        """Colours between the limits."""
        return len(self.words) - 2 * self.ends

    @property
    def last(self) -> int:
        """The greatest code."""
        return len(self.words) - 1

    def turned(self) -> Palette:
        """Return the palette for a falling scale: the colours beyond the limits change places."""
        words = self.words.copy()
        words[0], words[-1] = self.words[-1], self.words[0]
        return replace(self, words=words)

    def codes(self, t: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return floor(t n), at most n - 1, moved past the colour for what lies below."""
        return np.minimum(np.floor(t * self.entries), self.entries - 1) + float(self.ends)


@dataclass(frozen=True)
class Shading:
    """A band's numbers to levels: physical value, limits, curve, inversion.

    The float64 definition is ``t``; ``levels`` gives exactly its levels for integers and
    float32, by tables that are made once.
    """

    band: Band
    scale: Scale
    curve: curves.Curve
    palette: Palette | None = None
    monotone: bool = True
    zero_below: bool = False  # equalise: what lies below the limits is 0, whatever stands at low
    formula: curves.Curve | None = None  # of physical values, in the place of limits and curve

    def t(self, stored: NDArray[Any]) -> NDArray[np.float64]:
        """Return t in 0...1 in float64; NaN stays NaN."""
        low, high = self.scale.low, self.scale.high
        values = self.physical(stored)
        if self.formula is not None:
            t = self.formula(values)
            return 1.0 - t if self.scale.invert else t
        t = curves.shade(values, low, high, self.curve, self.scale.invert)
        if not self.zero_below:
            return t
        below = values < low if low <= high else values > low
        return np.where(below, float(self.scale.invert), t)

    def physical(self, stored: NDArray[Any]) -> NDArray[np.float64]:
        """Return stored numbers as physical values in float64."""
        values = stored.astype(np.float64)
        return values * self.band.scale + self.band.offset if self.band.scaled else values

    def _level(self, stored: NDArray[Any]) -> NDArray[np.float64]:
        if self.palette is None:
            return curves.level(self.t(stored), 255)
        codes = self.palette.codes(self.t(stored))
        if not self.palette.ends:
            return codes
        values, (low, high) = self.physical(stored), sorted((self.scale.low, self.scale.high))
        falling = self.scale.invert != (self.scale.low > self.scale.high)
        first, last = (self.palette.last, 0) if falling else (0, self.palette.last)
        codes = np.where(values < low, first, codes)
        return np.where(values > high, last, codes)

    @property
    def stepped(self) -> bool:
        """Whether levels are a staircase of at most 256, rising or falling."""
        return self.monotone and (self.palette is None or self.palette.last <= 255)

    def codes(self, stored: NDArray[Any]) -> NDArray[np.intp]:
        """Return the palette's code of each number; NaN gets the first."""
        return np.nan_to_num(self._level(stored), nan=0.0).astype(np.intp)

    def table(self, dtype: np.dtype[Any]) -> NDArray[np.uint16]:
        """Return ``level | valid << 8`` for each index of an 8- or 16-bit type."""
        values = tables.index_values(dtype)
        valid = ~self.band.rule.invalid(values)
        # Without any valid value the limits are NaN, and so are the levels.
        levels = np.nan_to_num(self._level(values), nan=0.0).astype(np.uint16)
        return np.asarray(levels | (valid.astype(np.uint16) << np.uint16(8)))

    @cached_property
    def stairs(self) -> steps.Staircase:
        """The steps of the definition over float32 numbers."""
        low, high = self.scale.low, self.scale.high
        stair = steps.staircase(self._level)
        plain = self.curve is curves.linear and self.palette is None and self.formula is None
        if not plain or low == high or not math.isfinite(high - low):
            return stair
        band = self.band
        line = steps.Line(band.scale, band.offset, low, high - low, self.scale.invert)
        return replace(stair, line=line)

    def levels(self, stored: NDArray[Any], work: int) -> NDArray[np.uint8]:
        """Return levels of (rows, columns) stored numbers; NaN gets 0."""
        if stored.dtype.kind in "biu" and stored.dtype.itemsize <= 2:
            table = (self.table(stored.dtype) & 0xFF).astype(np.uint8)
            return np.take(table, tables.as_index(np.ascontiguousarray(stored)), mode="wrap")
        out = np.empty(stored.shape, np.uint8)
        if stored.dtype in (np.float16, np.float32) and self.stepped:
            step = steps.step_levels.choose(work)
            step(stored.astype(np.float32, copy=False), self.stairs, out)
            return out
        for start in range(0, len(stored), _ROWS):
            found = self._level(stored[start : start + _ROWS])
            out[start : start + _ROWS] = np.nan_to_num(found, nan=0.0)
        return out

    def levels16(self, stored: NDArray[Any]) -> NDArray[np.uint16]:
        """Return levels 0...65535, from t itself."""
        out = np.empty(stored.shape, np.uint16)
        for start in range(0, len(stored), _ROWS):
            found = curves.level(self.t(stored[start : start + _ROWS]), 65535)
            out[start : start + _ROWS] = np.nan_to_num(found, nan=0.0)
        return out
