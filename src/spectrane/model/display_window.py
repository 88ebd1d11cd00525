"""Windows that a file keeps: which values of interest its maker meant to be seen (PS3.3 C.11.2)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import LookError, nearest

FUNCTIONS = ("LINEAR", "LINEAR_EXACT", "SIGMOID")
SATURATED = 4.0
"""A sigmoid is drawn so many widths to both sides: beyond, 16 bits do not tell it from flat."""


@record(frozen=True)
class DisplayWindow:
    """A window in physical values: centre, width, function, and what it is called.

    ``table`` (levels 0…1 of numbers ``step`` apart, the first of which is ``first``) stands instead
    of a function where the file has a VOI LUT.

    >>> DisplayWindow(400, 1800).center
    400
    """

    center: float
    width: float
    function: str = "LINEAR"
    explanation: str = ""
    first: float = 0.0
    table: tuple[float, ...] = field(default=(), repr=False)
    step: float = field(default=1.0, repr=False)

    @property
    def limits(self) -> tuple[float, float]:
        """Return the values between which levels change, by the formulas of PS3.3 C.11.2.1.

        >>> DisplayWindow(40, 400).limits, DisplayWindow(40, 400, "LINEAR_EXACT").limits
        ((-160.0, 239.0), (-160.0, 240.0))
        """
        if self.table:
            return self.first, self.first + (len(self.table) - 1) * self.step
        reach = self.width * (SATURATED if self.function == "SIGMOID" else 0.5)
        if self.function == "LINEAR":
            middle, reach = self.center - 0.5, (self.width - 1) / 2
            return middle - reach, middle + reach
        return self.center - reach, self.center + reach

    @property
    def way(self) -> str:
        """What its function is called where a picture tells its curve."""
        if self.table:
            return "table"
        return "sigmoid" if self.function == "SIGMOID" else "linear"

    @property
    def monotone(self) -> bool:
        """Whether levels only rise, or only fall."""
        return not self.table

    def through(self, scale: float, offset: float) -> DisplayWindow | None:
        """Return the window of the same pixels once their values are ``scale`` times what they were
        plus ``offset``; None where values would change their order.

        LINEAR becomes LINEAR_EXACT: its half and its 1 (C.11.2.1.2.1) are of the numbers before.

        >>> DisplayWindow(40, 400).through(0.5, 100.0).limits
        (20.0, 219.5)
        """
        if (scale, offset) == (1.0, 0.0):
            return self
        if scale <= 0:
            return None
        if self.table:
            center, width = self.center * scale + offset, self.width * scale
            return replace(self, center=center, width=width, first=self.first * scale + offset,
                           step=self.step * scale)  # fmt: skip
        if self.function == "LINEAR":
            low, high = (limit * scale + offset for limit in self.limits)
            return replace(self, center=(low + high) / 2, width=high - low,
                           function="LINEAR_EXACT")  # fmt: skip
        return replace(self, center=self.center * scale + offset, width=self.width * scale)

    def t(self, values: NDArray[Any]) -> NDArray[np.float64]:
        """Return t in 0...1 of physical values (any shape), by PS3.3 C.11.2.1; NaN stays NaN.

        LINEAR is C.11.2.1.2.1, SIGMOID C.11.2.1.3.1, LINEAR_EXACT C.11.2.1.3.2; a table is answered
        entry by entry, its ends for all beyond.

        >>> DisplayWindow(0, 100).t(np.array([-50.0, -49.0, 49.0, 50.0])).round(3).tolist()
        [0.0, 0.01, 1.0, 1.0]
        >>> DisplayWindow(40, 400, "SIGMOID").t(np.array([40.0])).tolist()
        [0.5]
        >>> DisplayWindow(0, 1, first=-1.0, table=(1.0, 0.0, 0.5)).t(np.array([-9, 0, 7])).tolist()
        [1.0, 0.0, 0.5]
        """
        values = np.asarray(values, np.float64)
        if self.table:
            held = np.append(np.asarray(self.table, np.float64), np.nan)
            at = np.clip(np.floor((values - self.first) / self.step + 0.5), 0, len(held) - 2)
            return np.asarray(held[np.where(np.isnan(at), len(held) - 1, at).astype(np.intp)])
        if self.function == "SIGMOID":
            with np.errstate(over="ignore"):
                return np.asarray(1.0 / (1.0 + np.exp(-4.0 * (values - self.center) / self.width)))
        low, high = self.limits
        with np.errstate(divide="ignore", invalid="ignore"):
            if self.function == "LINEAR":
                t = (values - (self.center - 0.5)) / (self.width - 1) + 0.5
            else:
                t = (values - self.center) / self.width + 0.5
        return np.where(values <= low, 0.0, np.where(values > high, 1.0, t))

    def __str__(self) -> str:
        """Say it in a few words.

        >>> str(DisplayWindow(40, 400, explanation="SOFT TISSUE"))
        'SOFT TISSUE: 40,400'
        """
        called = f"{self.explanation}: " if self.explanation else ""
        if self.table:
            return f"{called}table from {self.first:g} to {self.limits[1]:g}"
        way = "" if self.function == "LINEAR" else f" {self.function}"
        return f"{called}{self.center:g},{self.width:g}{way}"


def find_window(windows: Sequence[DisplayWindow], name: str) -> int | None:
    """Return the index of the window with this number (from 1) or explanation; None without one.

    >>> find_window([DisplayWindow(40, 400, explanation="Soft tissue")], "soft_tissue")
    0
    """
    text = name.strip().casefold().replace("_", " ")
    if text.isdecimal() and 1 <= int(text) <= len(windows):
        return int(text) - 1
    for index, window in enumerate(windows):
        if window.explanation and window.explanation.casefold().replace("_", " ") == text:
            return index
    return None


def no_window(windows: Sequence[DisplayWindow], name: str, presets: Sequence[str]) -> LookError:
    """Return the error of a name that neither a file's windows nor presets have."""
    text = name.strip().casefold().replace("_", " ")
    own = "; ".join(f"{k} {window}" for k, window in enumerate(windows, 1)) or "none"
    called = [window.explanation.casefold() for window in windows if window.explanation]
    known = list(dict.fromkeys([*called, *presets]))
    hint = nearest(text, known) if known else "; say window:CENTRE,WIDTH"
    return LookError(f"no window {name!r}; the file's own are {own}{hint}")
