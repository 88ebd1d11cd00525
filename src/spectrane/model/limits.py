"""Where the display limits come from; each rule is an entry of its own here.

A new one is a subclass of ``Limits`` with a name, and nothing else: see ``docs/extending.md``.
Numbers are physical values.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any, ClassVar, Protocol, TypeAlias

import numpy as np

from spectrane.model.display_window import DisplayWindow, find_window, no_window
from spectrane.model.errors import LookError
from spectrane.model.rules import Rule, held, number

Pair: TypeAlias = tuple[float, float]


class About(Protocol):
    """What a rule may know of a raster before any value is read."""

    @property
    def dtype(self) -> np.dtype[Any]:
        """The stored type."""

    @property
    def windows(self) -> Sequence[DisplayWindow]:
        """The windows kept with the file."""

    @property
    def curved(self) -> bool:
        """Whether the look names a curve."""

    @property
    def uptake(self) -> bool:
        """Whether an uptake of emission tomography is measured: see ``model.uptake``."""

    def presets(self) -> dict[str, Pair]:
        """Return the windows there are whatever the file: (centre, width) by name."""


class Values(Protocol):
    """What a rule may ask of the valid, finite values that limits are found from.

    All in physical values; NaN where there are none.
    """

    def type_range(self) -> Pair:
        """Return the least and greatest number the stored type can hold."""

    def ends(self) -> Pair:
        """Return the least and greatest value."""

    def percentiles(self, percents: Sequence[float]) -> list[float]:
        """Return percentiles, by linear interpolation between order statistics."""

    def moments(self) -> Pair:
        """Return the mean and σ (divisor N)."""

    def distances(self, middle: float, percent: float) -> float:
        """Return the percentile of the distances of values from ``middle``."""

    def magnitudes(self, percent: float) -> float:
        """Return the percentile of the magnitudes of values that are not 0; 0 where all are."""

    def above(self, level: float, percent: float) -> float:
        """Return the percentile of the values above a level; NaN where none are."""


class Limits(Rule):
    """A rule for low and high.

    ``meant`` settles what needs no values (what ``auto`` means, a window by its name);
    ``find`` returns low and high. ``reads`` tells whether it asks for values at all, ``cuts``
    whether it is meant to cut off much.
    """

    what: ClassVar[str] = "limits"
    reads: ClassVar[bool] = True
    cuts: ClassVar[bool] = False

    def meant(self, about: About) -> Limits:
        """Return the rule that is carried out."""
        return self

    def find(self, values: Values) -> Pair:
        """Return low and high in physical values."""
        raise NotImplementedError

    @property
    def formula(self) -> DisplayWindow | None:
        """The function of a file's own window, which stands instead of limits and curve."""
        return None

    @property
    def told(self) -> str:
        """What a person is told of it."""
        return str(self)

    @property
    def sampled(self) -> bool:
        """Whether its numbers were found in a sample before."""
        return False

    @classmethod
    def of(cls, given: Any) -> Limits:
        """Return a rule of itself, its text, or a pair (low, high).

        >>> str(Limits.of((0, 3000))), str(Limits.of("0.5,3")), str(Limits.of("percentile:2,98"))
        ('fixed:0,3000', 'fixed:0.5,3', 'percentile:2,98')
        """
        if isinstance(given, Limits):
            return given
        if is_pair(given):
            return Fixed(*given)
        if not isinstance(given, str):
            raise LookError(f"limits {given!r}: expected a text such as 'percentile:2,98', or a "
                            "pair (low, high)")  # fmt: skip
        if re.match(r"\s*[-+.\d]", given):
            return Limits.parse(f"fixed:{given.strip()}")
        return Limits.parse(given)


def is_pair(given: Any) -> bool:
    """Tell whether something is two numbers: a tuple, a list, or an array."""
    if not isinstance(given, tuple | list | np.ndarray) or len(given) != 2:
        return False
    return all(hasattr(v, "__float__") and not isinstance(v, str | bool) for v in given)


class Auto(
    Limits, name="auto",
    help="the display range kept with the file, unless it misses the data altogether; else `type` "
    "for 8-bit and boolean data; `uptake` for emission tomography; else `percentile:1,99`",
):  # fmt: skip
    """What fits, where nothing is said."""

    def meant(self, about: About) -> Limits:
        """Return what it means for a type; a range kept with the file stood in its place before."""
        if about.uptake:
            return Uptake()
        return Percentile(1.0, 99.0) if self.stretches(about.dtype) else Type()

    @staticmethod
    def stretches(dtype: np.dtype[Any]) -> bool:
        """Tell whether data of a type are stretched."""
        return dtype.itemsize > 1


class Type(
    Limits, name="type",
    help="the stored type's whole range in physical values; 0 to 1 for floats and booleans",
):  # fmt: skip
    """The whole range of the type: data as they are stored, unstretched."""

    reads: ClassVar[bool] = False

    def find(self, values: Values) -> Pair:
        """Return the range."""
        return values.type_range()


class MinMax(Limits, name="minmax", help="the least and greatest valid value"):
    """From end to end."""

    def find(self, values: Values) -> Pair:
        """Return the ends."""
        return values.ends()


class Percentile(
    Limits, name="percentile",
    help="percentiles of the valid values, linear between order statistics; low < high",
):  # fmt: skip
    """Without the outermost values."""

    low: float = number(least=0, most=100)
    high: float = number(least=0, most=100)

    def check(self) -> None:
        """Percentiles that go back are an error."""
        if not self.low < self.high:
            raise LookError("expected 0 <= low < high <= 100")

    def find(self, values: Values) -> Pair:
        """Return the two percentiles."""
        low, high = values.percentiles((self.low, self.high))
        return low, high


class Deviation(Limits, name="deviation", help="mean − n·σ to mean + n·σ"):
    """About the mean."""

    n: float = number(above=0)

    def find(self, values: Values) -> Pair:
        """Return n standard deviations to either side of the mean."""
        mean, sigma = values.moments()
        return mean - self.n * sigma, mean + self.n * sigma


class Fixed(
    Limits, name="fixed",
    help="as given; `LOW,HIGH` alone and a pair say the same; low > high inverts",
):  # fmt: skip
    """As a person says, who knows what they cut."""

    reads: ClassVar[bool] = False
    cuts: ClassVar[bool] = True
    low: float = number()
    high: float = number()

    def find(self, values: Values) -> Pair:
        """Return them."""
        return self.low, self.high


class Found(Limits):
    """Numbers that a rule found elsewhere: in another raster, or in several together.

    ``found`` tells whether values had a part in them.
    """

    name: ClassVar[str] = "fixed"
    reads: ClassVar[bool] = False
    low: float = number()
    high: float = number()
    told: str = held()
    sampled: bool = held(default=False)
    found: bool = held(default=True)

    def find(self, values: Values) -> Pair:
        """Return them."""
        return self.low, self.high


class CenterWidth(
    Limits, name="window",
    help="c − w/2 to c + w/2; or by name: `window:2` the file's own second, `window:lung` the "
    "file's of that name, else yours, else radiology's",
):  # fmt: skip
    """A window by its numbers. ``label`` is what one that was named is called."""

    reads: ClassVar[bool] = False
    cuts: ClassVar[bool] = True
    centre: float = number()
    width: float = number(above=0)
    label: str = held(default="")

    @classmethod
    def form(cls) -> str:
        """Return both ways to write it."""
        return "window:centre,width, window:NAME"

    @classmethod
    def read(cls, tail: str) -> Any:
        """Read two numbers, or a name: a file's may look like anything without a comma."""
        if tail.strip() and "," not in tail:
            return NamedWindow(tail.strip())
        return super().read(tail)

    @property
    def tail(self) -> str:
        """Its numbers, or its name."""
        return self.label or super().tail

    def find(self, values: Values) -> Pair:
        """Return the middle and half the width to either side."""
        return self.centre - self.width / 2, self.centre + self.width / 2


class NamedWindow(Limits):
    """A window by its number or name; which one that is, is known only with the file."""

    name: ClassVar[str] = "window"
    reads: ClassVar[bool] = False
    cuts: ClassVar[bool] = True
    called: str = held()

    @property
    def tail(self) -> str:
        """What it is called."""
        return self.called

    def meant(self, about: About) -> Limits:
        """Return the file's own window, with its function unless a curve is named; or a preset."""
        index = find_window(about.windows, self.called)
        if index is not None:
            one = about.windows[index]
            label = one.explanation or str(index + 1)
            if not about.curved:
                return FileWindow(one, label)
            return CenterWidth(one.center, one.width, label)
        if self.called.isdecimal():  # a file's own is meant: presets need not even be read
            raise no_window(about.windows, self.called, ())
        presets = about.presets()
        found = presets.get(self.called.lower().replace("_", " "))
        if found is None:
            raise no_window(about.windows, self.called, sorted(presets))
        return CenterWidth(*found, self.called)

    def find(self, values: Values) -> Pair:
        """Raise: it must be resolved before."""
        raise LookError(f"{self}: no such window is known without its file")


class FileWindow(Limits):
    """A file's own window, with its function."""

    name: ClassVar[str] = "window"
    reads: ClassVar[bool] = False
    cuts: ClassVar[bool] = True
    window: DisplayWindow = held()
    label: str = held(default="")

    @property
    def tail(self) -> str:
        """What the file calls it."""
        return self.label

    @property
    def formula(self) -> DisplayWindow:
        """The window itself."""
        return self.window

    def find(self, values: Values) -> Pair:
        """Return between which values its levels change."""
        return self.window.limits


class _OfUsual(Limits):
    """Rules whose numbers are written only where they are not the usual ones."""

    @property
    def tail(self) -> str:
        """The numbers, where they are others than the defaults."""
        usual = all(getattr(self, one.name) == one.default for one in self.parameters())
        return "" if usual else super().tail


class Symmetric(
    _OfUsual, name="symmetric",
    help="−m to +m, m the greatest magnitude or its p-th percentile",
):  # fmt: skip
    """About zero, for what has two signs."""

    percentile: float = number(default=100.0, above=0, most=100)

    def find(self, values: Values) -> Pair:
        """Return the magnitude to either side of 0."""
        reach = values.distances(0.0, self.percentile)
        return -reach, reach


class OfMap(
    _OfUsual, name="map",
    help="of a map of measures: from 0 where its values have one sign, else about 0, to the "
    "greatest magnitude or the p-th percentile of those that are not 0",
):  # fmt: skip
    """Where a map's colours run to: 0 is always an end of them, or their middle."""

    percentile: float = number(default=100.0, above=0, most=100)

    def find(self, values: Values) -> Pair:
        """Return 0 and the extreme, or the extreme to either side of 0."""
        low, high = values.ends()
        if not (low <= high):
            return low, high
        reach = values.magnitudes(self.percentile)
        return (0.0, reach) if low >= 0 else (-reach, 0.0) if high <= 0 else (-reach, reach)


class Uptake(
    _OfUsual, name="uptake",
    help="of emission tomography: from 0 to the p-th percentile of what is above the background, "
    "which is the mean of all values",
):  # fmt: skip
    """Where uptake is seen whole: air and background are far the most voxels of such a volume."""

    percentile: float = number(default=99.5, above=0, most=100)

    def find(self, values: Values) -> Pair:
        """Return 0 and the percentile; the greatest value where none is above the mean."""
        mean, _ = values.moments()
        high = values.above(mean, self.percentile)
        return 0.0, high if high == high else values.ends()[1]


def limits_list(given: Any) -> tuple[Limits, ...]:
    """Return one rule, or one per channel (3 or 4), of what a look was given.

    >>> [str(one) for one in limits_list(["minmax", (0, 1), "auto"])]
    ['minmax', 'fixed:0,1', 'auto']
    """
    many = isinstance(given, tuple | list | np.ndarray) and not is_pair(given)
    rules = tuple(Limits.of(item) for item in (given if many else [given]))
    if len(rules) not in (1, 3, 4):
        raise LookError(f"limits: expected one, or one per channel (3 or 4), not {len(rules)}")
    return rules
