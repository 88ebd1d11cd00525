"""Where a map of measures is significant: by value, by p from a statistic, by false discovery rate.

The false discovery rate is Benjamini and Hochberg's (1995) over all valid voxels.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.distributions import Distribution, ThresholdSide
from spectrane.analysis.expressions import parse_expression
from spectrane.engine.answers import answers
from spectrane.engine.derived import Derived
from spectrane.engine.volumes import VolumeSource
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.band import Band, find_band
from spectrane.model.errors import LookError
from spectrane.model.physical import physical as to_physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.statistic import FREEDOM, StatisticKind, statistic_of
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, whole

OneSided = Literal["positive", "negative"]
ONE_SIDED: tuple[OneSided, ...] = get_args(OneSided)
SIDES: tuple[ThresholdSide, ...] = get_args(ThresholdSide)
STATISTICS: tuple[StatisticKind, ...] = get_args(StatisticKind)
_ZEROS = 0.05
"""A larger share of p values that are 0 exactly is background, which is warned of."""
F64 = NDArray[np.float64]


@quiet_methods
@record(frozen=True)
class Threshold:
    """A test of each voxel's statistic: ``at`` a value, or by ``p`` or ``fdr``.

    ``measure`` names the frame that is tested; None is the one that is known to hold a statistic.
    ``side`` is ``both`` (its size), ``positive`` or ``negative``. ``statistic`` is ``t``, ``chi2``
    or ``correlation`` (``dof`` one number), ``F`` (two), ``z``, ``p``, ``ln p`` or ``log10 p``
    (none); it and ``dof`` are the file's own where they are None, else t.

    >>> round(Threshold("t", p=0.001, dof=20).level(), 4)
    3.8495
    """

    measure: int | str | None = None
    at: float | None = None
    side: ThresholdSide = "both"
    p: float | None = None
    dof: float | Sequence[float] | None = None
    fdr: float | None = None
    statistic: StatisticKind | None = None

    def __post_init__(self) -> None:
        """Check that it says one test, and what it says of it."""
        if sum(one is not None for one in (self.at, self.p, self.fdr)) != 1:
            raise LookError("threshold: give one of at, p and fdr")
        if self.side not in SIDES:
            raise LookError(f"threshold: side {self.side!r}: expected {', '.join(SIDES)}")
        if self.statistic is not None and self.statistic not in STATISTICS:
            raise LookError(
                f"threshold: statistic {self.statistic!r}: expected {', '.join(STATISTICS)}"
            )
        for name in ("p", "fdr"):
            value = getattr(self, name)
            if value is not None and not 0 < value < 1:
                raise LookError(f"threshold: {name} {value}: expected between 0 and 1")
        if self.at is not None and not np.isfinite(self.at):
            raise LookError(f"threshold: at {self.at}: expected a finite number")
        if isinstance(self.dof, Sequence | np.ndarray):
            object.__setattr__(self, "dof", tuple(float(one) for one in self.dof))
        if self.at is None and self.dof is not None:
            self.distribution()

    def settled(self, bands: Sequence[Band], shown: int = 0) -> Threshold:
        """Return the test with what a file's frames tell: which is tested, its statistic, its dof.

        ``shown`` (from 0) is the frame that is looked at. Raises LookError where nothing tells
        which frame is the statistic, and one is needed.

        >>> Threshold(p=0.05).settled([Band("walk", statistic="t(20)")]).dof
        (20.0,)
        """
        index = self._tested(bands, shown)
        measure = bands[index].name if self.measure is None else self.measure
        known = bands[index].statistic
        if known is None:
            return replace(self, measure=measure)
        told = statistic_of(known)
        own = self.statistic in (None, told.kind)
        return replace(
            self, measure=measure, statistic=self.statistic or told.kind,
            dof=told.freedom or None if own and self.dof is None else self.dof,
        )  # fmt: skip

    def _tested(self, bands: Sequence[Band], shown: int) -> int:
        if self.measure is not None:
            return find_band(bands, self.measure)
        known = [k for k, band in enumerate(bands) if band.statistic is not None]
        if len(bands) == 1 or shown in known:
            return shown
        called = [k for k, band in enumerate(bands) if band.name == (self.statistic or "t")]
        for found in (known, called):
            if len(found) == 1:
                return found[0]
        if self.at is not None:
            return 0
        names = ", ".join(band.name for band in bands[:16])
        raise LookError(
            "threshold: which frame is the statistic is not known; say its name or number as "
            f"measure (--statistic-frame); the frames are {names}"
        )

    def distribution(self) -> Distribution:
        """Return what tells how improbable its statistic is.

        >>> Threshold(p=0.05, dof=20).distribution().freedom
        (20.0,)
        """
        given: Any = self.dof if isinstance(self.dof, tuple) else (
            () if self.dof is None else (self.dof,))  # fmt: skip
        return Distribution(self.statistic or "t", given, self.side)

    def _direction(self) -> Distribution:
        """Return the same, for what degrees of freedom have no part in."""
        kind = self.statistic or "t"
        return Distribution(kind, (1.0,) * FREEDOM[kind], self.side)

    @property
    def one_sided(self) -> ThresholdSide:
        """Which side is tested: ``both`` where the size of a value is, ``positive`` of p."""
        return self._direction().side

    def said(self, level: float) -> str:
        """Say the test with its level, and by what it was found: for captions.

        >>> test = Threshold("t", p=0.001, dof=20)
        >>> test.said(test.level())
        '|t| >= 3.85 (p < 0.001, uncorrected)'
        """
        name = str(self.measure if self.measure is not None else self.statistic or "t")
        tested = self._direction().said(name, level)
        why = "" if self.at is not None else f" (p < {self.p:g}, uncorrected)" if self.p else (
            f" (false discovery rate {self.fdr:g})")  # fmt: skip
        return f"{tested}{why}"

    def p_values(self, values: F64) -> F64:
        """Return the p of each value, one-sided or both as ``side`` says; NaN stays.

        >>> import numpy as np
        >>> Threshold("z", p=0.05, statistic="z").p_values(np.array([1.96])).round(2).tolist()
        [0.05]
        """
        return self.distribution().p(values)

    def level(self, values: F64 | None = None) -> float:
        """Return the value from which a voxel passes; for ``fdr`` all valid values are needed.

        >>> Threshold("t", at=2.5).level()
        2.5
        """
        if self.at is not None:
            return self.at
        return self._last_kept(values) if self.p is None else self.distribution().level(self.p)

    def _last_kept(self, values: F64 | None) -> float:
        """Return the weakest value that keeps the false discovery rate; where none does, one that
        nothing reaches.

        A value of the data and not the inverse of its p, which rounding may put just beyond the
        value, and a p too small for float64 beyond every value.
        """
        if values is None:
            raise LookError("threshold: a false discovery rate is found from all voxels")
        assert self.fdr is not None
        numbers = values[np.isfinite(values)]
        tail = self.distribution()
        p = tail.p(numbers)
        ordered = np.sort(p)
        line = self.fdr * np.arange(1, len(ordered) + 1) / max(len(ordered), 1)
        passing = np.flatnonzero(ordered <= line)
        if not passing.size:
            return float("-inf") if tail.kind == "p" else float("inf")
        weakest = float(tail.strength(numbers[p <= ordered[passing[-1]]]).min())
        return -weakest if tail.kind == "p" else weakest

    def strength(self, values: F64) -> F64:
        """Return how far values lie towards the tested side; of p values the smaller is more.

        >>> Threshold(at=2).strength(np.array([-3.0])).tolist()
        [3.0]
        """
        return np.asarray(self._direction().strength(values))

    def passed(self, values: NDArray[Any], level: float) -> NDArray[np.bool_]:
        """Return where physical values pass a level; invalid ones never do.

        >>> import numpy as np
        >>> Threshold("t", at=2.0).passed(np.array([-3.0, 1.0]), 2.0).tolist()
        [True, False]
        """
        return self._direction().passed(values, level)


class Thresholded(Derived, VolumeSource):
    """A volume with every voxel invalid that fails a test on the volume's own voxels.

    ``test`` is an expression over its frames (``"abs(t) >= 5"``) or a ``Threshold``; an invalid
    statistic hides the voxel. Nothing is interpolated before it is tested. ``inverted`` keeps what
    fails.
    """

    def __init__(
        self, parent: Source, test: Threshold | str, *, inverted: bool = False, shown: int = 0
    ) -> None:
        super().__init__(parent, has_mask=True)
        test = test.settled(parent.bands, shown) if isinstance(test, Threshold) else test
        self.test, self.inverted = test, inverted
        self.expression = parse_expression(test, parent.bands) if isinstance(test, str) else None
        self.tested = shown
        if isinstance(test, Threshold) and test.measure is not None:
            self.tested = find_band(parent.bands, test.measure)

    def level(self) -> float:
        """Return the threshold's value, found once for a volume."""
        test = self.test
        assert isinstance(test, Threshold)

        def find() -> float:
            if test.fdr is None and test.statistic != "p":
                return test.level()
            values = self.physical(self.tested, whole(self.shape)).ravel()
            self._tell_zeros(values)
            return test.level(values)

        found: float = answers.find(self.parent, ("level", test), find)
        return found

    def _tell_zeros(self, values: F64) -> None:
        """Warn of p values of 0, which are rarely meant as the least probable of all."""
        assert isinstance(self.test, Threshold)
        none = float((values == 0).sum()) / max(1.0, float(np.isfinite(values).sum()))
        if self.test.statistic == "p" and none > _ZEROS:
            warn_caller(f"{none:.0%} of the p values are 0 exactly, which passes every test and "
                        "is mostly meant as background; declare it: --nodata 0")  # fmt: skip

    def passed(self, window: Window) -> NDArray[np.bool_]:
        """Return which voxels of a window pass."""
        if self.expression is not None:
            planes = {band: self.physical(band, window) for band in self.expression.bands}
            return np.asarray(np.nan_to_num(self.expression.value(planes)) != 0)
        assert isinstance(self.test, Threshold)
        return self.test.passed(self.numbers(self.tested, window), self.level())

    def physical(self, band: int, window: Window) -> F64:
        """Return a window of one frame in its unit, tested or not; NaN where invalid."""
        return self.numbers(band, window).astype(np.float64, copy=False)

    def numbers(self, band: int, window: Window) -> NDArray[Any]:
        """Return the same, in float32 where that is how they are stored."""
        pixels, described = self.parent.read([band], window), self.parent.bands[band]
        plain = pixels.values.dtype == np.float32 and not described.scaled
        values = pixels.values[0] if plain else (
            to_physical(pixels.values[0], described, np.dtype(np.float64)))  # fmt: skip
        own = pixels.values.dtype.kind == "f" and pixels.mask is None and pixels.alpha is None
        if own and not any(rule.values or rule.ranges for rule in pixels.rules):
            return values  # what is invalid is NaN already
        return np.where(pixels.validity[0], values, np.nan)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, with what fails made invalid."""
        passed = self.passed(window)
        return self.parent.read(bands, window).only(~passed if self.inverted else passed)
