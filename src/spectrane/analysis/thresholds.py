"""Where a map of measures is significant: by value, by p from a statistic, by false discovery rate.

p values come from the t, F and normal distributions (SciPy); the false discovery rate is Benjamini
and Hochberg's (1995) over all valid voxels.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.expressions import parse_expression
from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.kernels.quiet import quiet_methods
from spectrane.model.band import find_band
from spectrane.model.errors import LookError
from spectrane.model.physical import physical as to_physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, whole

OneSided = Literal["positive", "negative"]
ONE_SIDED: tuple[OneSided, ...] = get_args(OneSided)
ThresholdSide = Literal["both", "positive", "negative"]
SIDES: tuple[ThresholdSide, ...] = get_args(ThresholdSide)
Statistic = Literal["t", "F", "z"]
STATISTICS: tuple[Statistic, ...] = get_args(Statistic)
F64 = NDArray[np.float64]


@quiet_methods
@dataclass(frozen=True)
class Threshold:
    """A test of each voxel's statistic: ``at`` a value, or by ``p`` or ``fdr``.

    ``measure`` names the frame that is tested; ``side`` is ``both`` (its size), ``positive`` or
    ``negative``. ``statistic`` is ``t`` (``dof`` one number), ``F`` (two) or ``z`` (none).

    >>> round(Threshold("t", p=0.001, dof=20).level(), 4)
    3.8495
    """

    measure: int | str = 1
    at: float | None = None
    side: ThresholdSide = "both"
    p: float | None = None
    dof: float | Sequence[float] | None = None
    fdr: float | None = None
    statistic: Statistic = "t"

    def __post_init__(self) -> None:
        """Check that it says one test, and all that it needs."""
        if sum(one is not None for one in (self.at, self.p, self.fdr)) != 1:
            raise LookError("threshold: give one of at, p and fdr")
        if self.side not in SIDES:
            raise LookError(f"threshold: side {self.side!r}: expected {', '.join(SIDES)}")
        if self.statistic not in STATISTICS:
            raise LookError(
                f"threshold: statistic {self.statistic!r}: expected {', '.join(STATISTICS)}"
            )
        for name in ("p", "fdr"):
            value = getattr(self, name)
            if value is not None and not 0 < value < 1:
                raise LookError(f"threshold: {name} {value}: expected between 0 and 1")
        if self.at is not None and not np.isfinite(self.at):
            raise LookError(f"threshold: at {self.at}: expected a finite number")
        if self.at is None:
            self._freedom()

    def said(self, level: float) -> str:
        """Say the test with its level, and by what it was found: for captions.

        >>> test = Threshold("t", p=0.001, dof=20)
        >>> test.said(test.level())
        '|t| >= 3.85 (p < 0.001, uncorrected)'
        """
        tested = f"|{self.measure}|" if self.side == "both" and self.statistic != "F" else (
            f"{self.measure}")  # fmt: skip
        sign = f"<= {-abs(level):.3g}" if self.side == "negative" else f">= {level:.3g}"
        why = "" if self.at is not None else f" (p < {self.p:g}, uncorrected)" if self.p else (
            f" (false discovery rate {self.fdr:g})")  # fmt: skip
        return f"{tested} {sign}{why}"

    def _freedom(self) -> tuple[float, ...]:
        wanted = {"t": 1, "F": 2, "z": 0}[self.statistic]
        given = () if self.dof is None else (
            tuple(self.dof) if isinstance(self.dof, tuple | list) else (self.dof,))  # fmt: skip
        if len(given) != wanted or not all(float(value) > 0 for value in given):
            raise LookError(
                f"threshold: {self.statistic} needs {wanted} degrees of freedom above 0, not "
                f"{self.dof!r}"
            )
        return tuple(float(value) for value in given)

    def p_values(self, values: F64) -> F64:
        """Return the p of each value, one-sided or both as ``side`` says; NaN stays.

        >>> import numpy as np
        >>> Threshold("z", p=0.05, statistic="z").p_values(np.array([1.96])).round(2).tolist()
        [0.05]
        """
        from scipy import stats

        freedom = self._freedom()
        if self.statistic == "F":
            return np.asarray(stats.f.sf(values, *freedom))
        tail = stats.t(*freedom) if self.statistic == "t" else stats.norm
        if self.side == "both":
            return np.asarray(2 * tail.sf(np.abs(values)))
        return np.asarray(tail.sf(values if self.side == "positive" else -values))

    def level(self, values: F64 | None = None) -> float:
        """Return the value from which a voxel passes; for ``fdr`` all valid values are needed.

        >>> Threshold("t", at=2.5).level()
        2.5
        """
        if self.at is not None:
            return self.at
        if self.p is None:
            return self._least_kept(values)
        from scipy import stats

        freedom = self._freedom()
        if self.statistic == "F":
            return float(stats.f.isf(self.p, *freedom))
        tail = stats.t(*freedom) if self.statistic == "t" else stats.norm
        return float(tail.isf(self.p / 2 if self.side == "both" else self.p))

    def _least_kept(self, values: F64 | None) -> float:
        """Return the weakest value that keeps the false discovery rate, +inf where none does.

        A value of the data and not the inverse of its p, which rounding may put just beyond the
        value, and a p too small for float64 beyond every value.
        """
        if values is None:
            raise LookError("threshold: a false discovery rate is found from all voxels")
        assert self.fdr is not None
        numbers = values[np.isfinite(values)]
        p = self.p_values(numbers)
        ordered = np.sort(p)
        line = self.fdr * np.arange(1, len(ordered) + 1) / max(len(ordered), 1)
        passing = np.flatnonzero(ordered <= line)
        if not passing.size:
            return float("inf")
        return float(self._strength(numbers[p <= ordered[passing[-1]]]).min())

    def _strength(self, values: F64) -> F64:
        """Return how far values lie towards the tested side."""
        if self.statistic == "F" or self.side == "positive":
            return values
        return -values if self.side == "negative" else np.abs(values)

    def passed(self, values: F64, level: float) -> NDArray[np.bool_]:
        """Return where physical values pass a level; invalid ones never do.

        >>> import numpy as np
        >>> Threshold("t", at=2.0).passed(np.array([-3.0, 1.0]), 2.0).tolist()
        [True, False]
        """
        with np.errstate(invalid="ignore"):
            if self.statistic == "F" or self.side == "positive":
                return np.asarray(values >= level)
            if self.side == "negative":
                return np.asarray(values <= -abs(level))
            return np.asarray(np.abs(values) >= level)


class Thresholded(Derived, VolumeSource):
    """A volume with every voxel invalid that fails a test on the volume's own voxels.

    ``test`` is an expression over its frames (``"abs(t) >= 5"``) or a ``Threshold``; an invalid
    statistic hides the voxel. Nothing is interpolated before it is tested. ``inverted`` keeps what
    fails.
    """

    def __init__(self, parent: Source, test: Threshold | str, *, inverted: bool = False) -> None:
        super().__init__(parent, has_mask=True)
        self.test, self.inverted = test, inverted
        self.expression = parse_expression(test, parent.bands) if isinstance(test, str) else None
        self.tested = -1 if isinstance(test, str) else find_band(parent.bands, test.measure)
        self._level: float | None = None

    def level(self) -> float:
        """Return the threshold's value, found once."""
        assert isinstance(self.test, Threshold)
        if self._level is None:
            values = None
            if self.test.fdr is not None:
                values = self.physical(self.tested, whole(self.shape)).ravel()
            self._level = self.test.level(values)
        return self._level

    def passed(self, window: Window) -> NDArray[np.bool_]:
        """Return which voxels of a window pass."""
        if self.expression is not None:
            planes = {band: self.physical(band, window) for band in self.expression.bands}
            return np.asarray(np.nan_to_num(self.expression.value(planes)) != 0)
        assert isinstance(self.test, Threshold)
        return self.test.passed(self.physical(self.tested, window), self.level())

    def physical(self, band: int, window: Window) -> F64:
        """Return a window of one frame in its unit, tested or not; NaN where invalid."""
        pixels = self.parent.read([band], window)
        values = to_physical(pixels.values[0], self.parent.bands[band], np.dtype(np.float64))
        return np.where(pixels.validity[0], values, np.nan)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, with what fails made invalid."""
        passed = self.passed(window)
        return self.parent.read(bands, window).only(~passed if self.inverted else passed)
