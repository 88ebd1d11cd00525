"""Windows that a file keeps: which values of interest its maker meant to be seen (PS3.3 C.11.2)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from spectrane.model.errors import LookError, nearest

FUNCTIONS = ("LINEAR", "LINEAR_EXACT", "SIGMOID")
SATURATED = 4.0
"""A sigmoid is drawn so many widths to both sides: beyond, 16 bits do not tell it from flat."""


@dataclass(frozen=True)
class DisplayWindow:
    """A window in physical values: centre, width, function, and what it is called.

    ``table`` (levels 0…1 of consecutive whole numbers, the first of which is ``first``) stands
    instead of a function where the file has a VOI LUT.
    """

    center: float
    width: float
    function: str = "LINEAR"
    explanation: str = ""
    first: float = 0.0
    table: tuple[float, ...] = field(default=(), repr=False)

    @property
    def limits(self) -> tuple[float, float]:
        """Return the values between which levels change, by the formulas of PS3.3 C.11.2.1.

        >>> DisplayWindow(40, 400).limits, DisplayWindow(40, 400, "LINEAR_EXACT").limits
        ((-160.0, 239.0), (-160.0, 240.0))
        """
        if self.table:
            return self.first, self.first + len(self.table) - 1
        reach = self.width * (SATURATED if self.function == "SIGMOID" else 0.5)
        if self.function == "LINEAR":
            middle, reach = self.center - 0.5, (self.width - 1) / 2
            return middle - reach, middle + reach
        return self.center - reach, self.center + reach

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
    for index, one in enumerate(windows):
        if one.explanation and one.explanation.casefold().replace("_", " ") == text:
            return index
    return None


def no_window(windows: Sequence[DisplayWindow], name: str, presets: Sequence[str]) -> LookError:
    """Return the error of a name that neither a file's windows nor presets have."""
    text = name.strip().casefold().replace("_", " ")
    own = "; ".join(f"{k} {one}" for k, one in enumerate(windows, 1)) or "none"
    called = [one.explanation.casefold() for one in windows if one.explanation]
    known = list(dict.fromkeys([*called, *presets]))
    hint = nearest(text, known) if known else "; say window:CENTRE,WIDTH"
    return LookError(f"no window {name!r}; the file's own are {own}{hint}")
