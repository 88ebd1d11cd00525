"""How values become colours, as Matplotlib's norms and colour maps say it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
from matplotlib.colors import Normalize

from spectrane.model.errors import LookError

_STEPS = 4097


class ScaleNorm(Normalize):
    """Limits, curve and inversion of one channel: physical values to 0...1.

    Where the colour map has colours of its own for what lies beyond the limits (``ends``), values
    there are below 0 and above 1.
    """

    def __init__(
        self, low: float, high: float, find: Callable[[Any], Any], beyond: Callable[[Any], Any],
        *, ends: bool,
    ) -> None:  # fmt: skip
        super().__init__(min(low, high), max(low, high))
        self._find, self._beyond, self._ends = find, beyond, ends

    def __call__(self, value: Any, clip: bool | None = None) -> Any:
        """Return where values stand between the limits; what is masked or NaN stays masked."""
        given: Any = np.ma.asarray(value).astype(np.float64)
        values = given.filled(np.nan)
        t = np.asarray(self._find(values), np.float64)
        if self._ends and not clip:
            away = self._beyond(values)
            t = np.where(away < 0, -1.0, np.where(away > 0, 2.0, t))
        found = np.ma.masked_invalid(t)
        return found if np.ndim(value) else found.reshape(())[()]

    def inverse(self, value: Any) -> Any:
        """Return the values at places between the limits, to a thousandth of them."""
        values = np.linspace(self.vmin or 0.0, self.vmax or 0.0, _STEPS)
        t = np.asarray(self._find(values), np.float64)
        rising = t if t[-1] >= t[0] else t[::-1]
        if (np.diff(rising) < 0).any():
            raise LookError("this curve rises and falls: it has no inverse")
        return np.interp(value, rising, values if t[-1] >= t[0] else values[::-1])

    def autoscale_None(self, A: Any) -> None:  # noqa: N802, N803 - Matplotlib's name
        """Leave the limits as they are: they were found already."""
