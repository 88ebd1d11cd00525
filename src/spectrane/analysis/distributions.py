"""How improbable a statistic is: p of its values, the value at a p, and which way is stronger.

t, F, normal and chi-squared distributions are SciPy's. A correlation r with ν degrees of freedom is
tested by t = r √(ν / (1 − r²)), which has a t distribution with ν. Logarithms of p may be kept
with either sign (nifti1.h), and count by their size.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import LookError
from spectrane.model.statistic import FREEDOM, StatisticKind

F64 = NDArray[np.float64]
ThresholdSide = Literal["both", "positive", "negative"]
_SIGNED = ("t", "z", "correlation")
_LOGARITHMS = {"ln p": 1.0, "log10 p": math.log(10.0)}


class Distribution:
    """A kind of statistic with its degrees of freedom, and the side of it that counts.

    Only t, z and correlation have two sides. Raises LookError for degrees of freedom that are
    missing, not above 0, or of another number.

    >>> round(Distribution("t", (20,), "both").level(0.001), 4)
    3.8495
    """

    def __init__(
        self, kind: StatisticKind, freedom: Sequence[float], side: ThresholdSide = "both"
    ) -> None:
        given = tuple(float(one) for one in freedom)
        if len(given) != FREEDOM[kind] or not all(one > 0 for one in given):
            raise LookError(f"threshold: {kind} needs {FREEDOM[kind]} degrees of freedom above 0, "
                            f"not {', '.join(f'{one:g}' for one in given) or 'none'}"
                            + ("" if given else ", as the file says none: dof, --dof"))  # fmt: skip
        self.kind, self.freedom = kind, given
        self.side: ThresholdSide = side if kind in _SIGNED else "positive"

    def p(self, values: F64) -> F64:
        """Return the p of each value; NaN stays.

        >>> Distribution("z", ()).p(np.array([1.96])).round(2).tolist()
        [0.05]
        """
        if self.kind == "p":
            return np.asarray(values, np.float64)
        if self.kind in _LOGARITHMS:
            return np.asarray(np.exp(-np.abs(values) * _LOGARITHMS[self.kind]))
        tail = self._tail()
        towards = self.strength(self._of_t(values))
        return np.asarray((2 if self.side == "both" else 1) * tail.sf(towards))

    def level(self, p: float) -> float:
        """Return the weakest value that is as improbable as p."""
        if self.kind == "p":
            return p
        if self.kind in _LOGARITHMS:
            return -math.log(p) / _LOGARITHMS[self.kind]
        found = float(self._tail().isf(p / 2 if self.side == "both" else p))
        if self.kind == "correlation":
            return found / math.sqrt(self.freedom[0] + found * found)
        return found

    def strength(self, values: Any) -> Any:
        """Return how far values lie towards what is tested; greater is less probable."""
        if self.kind == "p":
            return -values
        if self.side == "both" or self.kind in _LOGARITHMS:
            return np.abs(values)
        return -values if self.side == "negative" else values

    def passed(self, values: NDArray[Any], level: float) -> NDArray[np.bool_]:
        """Return where values are as strong as a level; invalid ones never are."""
        turned = self.side == "negative"
        bound: Any = -level if self.kind == "p" else abs(level) if turned else level
        if values.dtype == np.float32:  # the least float32 that is no less: nothing is rounded away
            near = np.float32(bound)
            bound = near if float(near) >= bound else np.nextafter(near, np.float32(np.inf))
        with np.errstate(invalid="ignore"):
            return np.asarray(self.strength(values) >= bound)

    def said(self, name: str, level: float) -> str:
        """Say what passes: ``|t| >= 3.85``, ``p <= 0.001``."""
        if self.kind == "p" or self.side == "negative":
            return f"{name} <= {level if self.kind == 'p' else -abs(level):.3g}"
        sized = self.side == "both" or self.kind in _LOGARITHMS
        return f"{f'|{name}|' if sized else name} >= {level:.3g}"

    def _of_t(self, values: F64) -> F64:
        if self.kind != "correlation":
            return values
        with np.errstate(divide="ignore", invalid="ignore"):
            return np.asarray(values * np.sqrt(self.freedom[0] / (1.0 - values * values)))

    def _tail(self) -> Any:
        from scipy import stats

        if self.kind == "z":
            return stats.norm
        family = {"t": stats.t, "correlation": stats.t, "F": stats.f, "chi2": stats.chi2}
        return family[self.kind](*self.freedom)
