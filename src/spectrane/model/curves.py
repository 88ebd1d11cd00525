"""The display curves: t = f(u), u and t in 0...1; each is an entry of its own here.

A new one is a subclass of ``Curve`` with a name, and nothing else: see ``docs/extending.md``.
"""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise
from typing import Any, ClassVar, Protocol, Self, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import LookError
from spectrane.model.rules import Rule, format_number, held, number

FloatArray: TypeAlias = NDArray[np.float64]
FITTED = 1 / 3
"""Where a curve without a number draws the median of the values between the limits."""


class Positions(Protocol):
    """What a curve may ask of the valid values between the limits, as positions u in 0...1."""

    def percentile(self, percent: float) -> float:
        """Return a percentile of u; NaN where nothing lies between the limits."""

    def shares(self) -> Shares:
        """Return the share of values at or below each u."""


class Curve(Rule):
    """A curve: called with u (any shape, 0...1, float64) it returns t; NaN stays NaN.

    ``monotone`` tells that t never turns round; ``fitted`` settles what depends on the data.
    """

    what: ClassVar[str] = "curve"

    @property
    def monotone(self) -> bool:
        """Whether t only rises, or only falls."""
        return True

    @property
    def needs_values(self) -> bool:
        """Whether ``fitted`` must be asked before it can be drawn."""
        return any(getattr(self, parameter.name) is None for parameter in self.parameters())

    def fitted(self, positions: Positions) -> Curve:
        """Return the curve that is drawn: itself, or one that fits the values."""
        return self

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        raise NotImplementedError

    @classmethod
    def of(cls, given: Any) -> Curve:
        """Return a curve of itself or its text.

        >>> str(Curve.of("gamma:1.8")), str(Curve.of("points:0/0,0.5/0.8,1/1"))
        ('gamma:1.8', 'points:0/0,0.5/0.8,1/1')
        """
        if isinstance(given, Curve):
            return given
        if not isinstance(given, str):
            raise LookError(f"curve {given!r}: expected a text such as 'gamma:1.8'")
        return Curve.parse(given)


class Linear(Curve, name="linear", help="u itself"):
    """Levels rise evenly."""

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        return u


class SquareRoot(Curve, name="sqrt", help="√u"):
    """The square root."""

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        return np.sqrt(u)


class Square(Curve, name="square", help="u²"):
    """The square."""

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        return u * u


class Gamma(Curve, name="gamma", help="u^(1/g): brighter in the middle above 1, darker below"):
    """The power of 1/g."""

    g: float = number(above=0)

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        return np.asarray(u ** (1.0 / self.g))


class Log(
    Curve, name="log",
    help="log10(1 + (10^d − 1)·u)/d, over d decades; fitted: d of 1 to 6 that draws the median of "
    "the values between the limits at one third",
):  # fmt: skip
    """Decades drawn evenly."""

    decades: float | None = number(default=None, above=0, most=300)

    def fitted(self, positions: Positions) -> Curve:
        """Return it over as many decades as bring the median to one third."""
        if self.decades is not None:
            return self
        return Log(_fitting(positions, lambda d: Log(round(d, 3)), 1.0, 6.0).decades)

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        decades = 3.0 if self.decades is None else self.decades
        return np.asarray(np.log10(1.0 + (10.0**decades - 1.0) * u) / decades)


class Asinh(
    Curve, name="asinh",
    help="asinh(u/s)/asinh(1/s), linear up to about the share s of the range; fitted: s of 0.001 "
    "to 1, likewise",
):  # fmt: skip
    """Linear near low, logarithmic above."""

    share: float | None = number(default=None, above=0, most=1e6)

    def fitted(self, positions: Positions) -> Curve:
        """Return it with the share that brings the median to one third."""
        if self.share is not None:
            return self

        def made(power: float) -> Asinh:
            return Asinh(float(f"{10.0**power:.3g}"))

        return Asinh(_fitting(positions, made, 0.0, -3.0).share)

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        share = 0.1 if self.share is None else self.share
        return np.asarray(np.arcsinh(u / share) / np.arcsinh(1.0 / share))


class Logistic(Curve, name="logistic", help="σ(s·(u − ½)), moved and scaled so that 0→0, 1→1"):
    """An S: flat at both ends."""

    s: float = number(default=8.0, above=0, most=700)

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""

        def middle(at: Any) -> Any:
            return 1.0 / (1.0 + np.exp(-self.s * (at - 0.5)))

        low, high = float(middle(0.0)), float(middle(1.0))
        return np.asarray((middle(u) - low) / (high - low))


class Equalise(
    Curve, name="equalise",
    help="the share of the valid values between the limits that are at or below v",
):  # fmt: skip
    """Every level equally often."""

    @property
    def needs_values(self) -> bool:
        """It is made of them."""
        return True

    def fitted(self, positions: Positions) -> Curve:
        """Return the shares that were found."""
        return positions.shares()

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        raise LookError("curve equalise: is found from values; it has none of its own")


class Points(
    Curve, name="points", help="straight lines through (u, t), u rising, held beyond the ends"
):
    """Lines through points, as pairs: ``points:u1/t1,u2/t2,…``."""

    at: tuple[tuple[float, float], ...] = held(default=())

    def check(self) -> None:
        """Check that there are two points or more, that u rises, and all lie in 0...1."""
        pairs = [tuple(map(float, pair)) for pair in self.at]
        if len(pairs) < 2 or any(len(pair) != 2 for pair in pairs):
            raise LookError("expected points:u1/t1,u2/t2,… with two points or more")
        if not all(0 <= value <= 1 for pair in pairs for value in pair):
            raise LookError("u and t must lie between 0 and 1")
        if any(later[0] <= before[0] for before, later in pairwise(pairs)):
            raise LookError("u must grow from point to point")
        self._put("at", tuple((u, t) for u, t in pairs))

    @classmethod
    def form(cls) -> str:
        """Return how it is written."""
        return "points:u1/t1,u2/t2,…"

    @classmethod
    def read(cls, tail: str) -> Self:
        """Read pairs ``u/t`` with commas between them."""
        try:
            found = [tuple(map(float, part.split("/"))) for part in tail.split(",")]
        except ValueError:
            found = []
        return cls(tuple(found))  # type: ignore[arg-type]

    @property
    def tail(self) -> str:
        """The pairs as text."""
        return ",".join(f"{format_number(u)}/{format_number(t)}" for u, t in self.at)

    @property
    def monotone(self) -> bool:
        """Whether t never turns round."""
        ts = [t for _, t in self.at]
        return ts in (sorted(ts), sorted(ts, reverse=True))

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        us, ts = np.array(self.at, np.float64).T
        return np.where(np.isnan(u), np.nan, np.interp(u, us, ts))


_KEPT = 1 << 18


class Shares(Curve):
    """An equalising curve as it was found: ``share[k]`` of the values lie at or below ``u[k]``.

    ``between`` draws straight lines from one to the next (bins of floats) instead of steps (every
    value of integers). Of very many values those are kept that change a level of 8 or 16 bits or an
    entry of a colour map of up to 65 536 (powers of two), so that none of them is another.
    """

    name: ClassVar[str] = "equalise"
    u: FloatArray = held()
    share: FloatArray = held()
    between: bool = held(default=False)

    def check(self) -> None:
        """Thin out what changes nothing, and protect the arrays."""
        u, share = self.u, self.share
        if len(u) > _KEPT and not self.between:
            steps = np.floor(share * 65535 + 0.5), np.floor(share * 65536)
            kept = np.ones(len(u), bool)
            kept[1:] = (steps[0][1:] != steps[0][:-1]) | (steps[1][1:] != steps[1][:-1])
            u, share = u[kept], share[kept]
        for name, values in (("u", u), ("share", share)):
            kept = np.array(values, np.float64)
            kept.setflags(write=False)
            self._put(name, kept)

    @property
    def nbytes(self) -> int:
        """How much memory it takes."""
        return self.u.nbytes + self.share.nbytes

    def __call__(self, u: FloatArray) -> FloatArray:
        """Return t of u."""
        if self.between:
            found = np.interp(u, self.u, self.share)
        else:
            at = np.searchsorted(self.u, u, side="right")
            found = np.concatenate([[0.0], self.share])[at]
        return np.where(np.isnan(u), np.nan, found)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Shares):
            return NotImplemented
        same = np.array_equal(self.u, other.u) and np.array_equal(self.share, other.share)
        return same and self.between == other.between

    def __hash__(self) -> int:
        return hash((len(self.u), self.between, float(self.share[-1]) if len(self.share) else 0.0))


def _fitting(positions: Positions, made: Callable[[float], Any], first: float, last: float) -> Any:
    """Return the curve, among those from ``first`` to ``last``, that draws the median at 1/3.

    Further along, the median is drawn brighter; it is found by bisection.
    """
    median = positions.percentile(50.0)
    if not 0.0 < median < 1.0:
        return made(first)

    def drawn(at: float) -> float:
        return float(made(at)(np.array([median]))[0])

    if drawn(first) >= FITTED:
        return made(first)
    if drawn(last) <= FITTED:
        return made(last)
    for _ in range(40):
        middle = (first + last) / 2
        if drawn(middle) < FITTED:
            first = middle
        else:
            last = middle
    return made((first + last) / 2)
