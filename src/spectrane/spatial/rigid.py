"""How a volume must be moved and turned to fall on another: rigid alignment in the patient.

What both show is compared at points of the fixed volume, coarse to fine: by normalised mutual
information (Studholme, Hill and Hawkes, 1999), which needs no likeness of values, or by
correlation. Powell's method (SciPy) finds the best of six parameters.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.described import Described
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.kernels.scattered import looked_up
from spectrane.model.band import BandName, find_band
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.patient import axis_apart
from spectrane.model.physical import physical
from spectrane.model.source import Source, called
from spectrane.model.telling import warn_caller

F64 = NDArray[np.float64]
Likeness = Literal["information", "correlation"]
LIKENESSES: tuple[Likeness, ...] = get_args(Likeness)
_MOST = 3_000_000
"""Voxels of a volume that are compared at most."""
_BINS = 32
_LEVELS = ((4, 4_000, 1e-3), (2, 10_000, 1e-4), (1, 24_000, 1e-5))
"""How much coarser each search is, at how many points it looks, and when it ends."""
_TIMES = 1000
"""So often are points looked up in a search, about: what compiled loops are worth."""
_OVERLAP = 0.25
"""Of the points so many must lie in the other volume, or the volumes do not overlap enough."""
_CHANCE = 4.0
"""So many σ above what chance places give, likeness is no chance."""


@quiet_methods
@record(frozen=True)
class RigidAlignment:
    """How a volume must be moved in the patient (mm, RAS+) to fall on another.

    ``shift`` is how its middle moves, in mm along x, y and z; ``turn`` the rotation vector in
    degrees: its direction is the axis, its length the angle. ``matrix`` (4x4) takes millimetres to
    where they belong. ``likeness`` says what was compared, with its value ``before`` and ``after``:
    a correlation, or normalised mutual information (1: none, 2: all). ``spread`` is how far apart
    two searches ended, in mm at most.

    >>> moved = RigidAlignment((1.5, 0, 0), (0, 0, 2), tuple(map(tuple, np.eye(4))), "correlation",
    ...                        0.4, 0.9, 0.05)
    >>> str(moved)
    'moved by +1.50, +0.00, +0.00 mm, turned by 2.00 degrees (correlation 0.400 to 0.900)'
    """

    shift: tuple[float, float, float]
    turn: tuple[float, float, float]
    matrix: tuple[tuple[float, ...], ...]
    likeness: Likeness
    before: float
    after: float
    spread: float

    @property
    def degrees(self) -> float:
        """The angle that it turns by."""
        return float(np.linalg.norm(self.turn))

    def to_dict(self) -> dict[str, Any]:
        """Return the answer as plain values.

        >>> sorted(RigidAlignment((0, 0, 0), (0, 0, 0), (), "correlation", 0, 1, 0).to_dict())[:3]
        ['after', 'before', 'degrees']
        """
        return {"shift_mm": list(self.shift), "turn_degrees": list(self.turn),
                "degrees": self.degrees, "matrix": [list(row) for row in self.matrix],
                "likeness": self.likeness, "before": self.before, "after": self.after,
                "spread_mm": self.spread}  # fmt: skip

    def __str__(self) -> str:
        x, y, z = self.shift
        return (f"moved by {x:+.2f}, {y:+.2f}, {z:+.2f} mm, turned by {self.degrees:.2f} degrees "
                f"({self.likeness} {self.before:.3f} to {self.after:.3f})")  # fmt: skip


def find_rigid(
    source: Source, to: Source, *, likeness: Likeness | None = None, frame: BandName = 1,
    to_frame: BandName = 1,
) -> RigidAlignment:  # fmt: skip
    """Find how ``source`` must be moved to fall on ``to``.

    ``likeness`` None is ``correlation`` where both have one unit and modality, else
    ``information``. Raises GridMismatch where they do not meet, or are no more alike in the best
    place than in chance ones; warns where two searches do not agree to a voxel.
    """
    likeness = likeness or _fitting(source, to)
    if likeness not in LIKENESSES:
        raise LookError(f"likeness {likeness!r}: expected {' or '.join(LIKENESSES)}")
    apart = axis_apart(source.grid, to.grid)
    if apart:
        raise GridMismatch(f"{called(source)} and {called(to)} do not meet anywhere: {apart}; "
                           "give one of them the other's place first")  # fmt: skip
    moving = _Held.of(source, find_band(source.bands, frame))
    fixed = _Held.of(to, find_band(to.bands, to_frame))
    search = _Search(fixed, moving, likeness)
    found, other = search.run()
    before, after = -search.cost(np.zeros(6)), -search.cost(found)
    search.check_chance(after, called(source), called(to))
    spread = float(np.linalg.norm(search.corners(found) - search.corners(other), axis=0).max())
    voxel = max(*fixed.spacing, *moving.spacing)
    if spread > 1.5 * voxel:
        warn_caller(
            f"{called(source)} on {called(to)}: two searches end {spread:.3g} mm apart, at voxels "
            f"of {voxel:.3g} mm; look at both together before it is relied on "
            "(compare_slices(mode='checker'), slices --beside --mode checker)"
        )
    return _told(
        np.asarray(np.linalg.inv(search.matrix(found)), np.float64),
        moving,
        likeness,
        before,
        after,
        spread,
    )


def _fitting(source: Source, to: Source) -> Likeness:
    """Return what is to be compared: of one kind of picture the values themselves."""
    kinds = [(one.bands[0].unit, one.metadata.get("Modality")) for one in (source, to)]
    alike = kinds[0] == kinds[1] and kinds[0] != (None, None)
    return "correlation" if alike else "information"


def _told(
    matrix: F64, moving: _Held, likeness: Likeness, before: float, after: float, spread: float
) -> RigidAlignment:
    from scipy.spatial.transform import Rotation

    middle = moving.middle
    moved = matrix[:3, :3] @ middle + matrix[:3, 3] - middle
    turn = Rotation.from_matrix(matrix[:3, :3]).as_rotvec(degrees=True)
    x, y, z = moved.tolist()
    a, b, c = turn.tolist()
    return RigidAlignment((x, y, z), (a, b, c), tuple(map(tuple, matrix.tolist())), likeness,
                          before, after, spread)  # fmt: skip


@record(frozen=True)
class _Held:
    """A volume's physical values (i, j, k) with NaN where invalid, and their matrix."""

    values: NDArray[np.float32]
    matrix: F64

    @property
    def spacing(self) -> list[float]:
        """Millimetres between voxels."""
        return [float(side) for side in np.linalg.norm(self.matrix[:3, :3], axis=0)]

    @property
    def middle(self) -> F64:
        """Its middle in mm."""
        half = (np.array(self.values.shape) - 1) / 2
        return np.asarray(self.matrix[:3, :3] @ half + self.matrix[:3, 3])

    @classmethod
    def of(cls, source: Source, band: int) -> _Held:
        """Read a frame slab by slab, as means of so many voxels that it is no more than _MOST."""
        sides = np.array(source.grid.pixel_size)
        factors = np.ones(3, int)
        while np.prod(-(-np.array(source.shape) // factors)) > _MOST:
            factors[int(np.argmin(sides * factors))] += 1
        i, j, k = source.shape
        parts = []
        for first in range(0, k, step := int(factors[2]) * 8):
            window = ((0, i), (0, j), (first, min(first + step, k)))
            pixels = source.read([band], window)
            values = physical(pixels.values[0], source.bands[band], np.float32)
            parts.append(_means(np.where(pixels.validity[0], values, np.nan), factors))
        matrix = source.grid.matrix @ _coarser(factors)
        return cls(np.concatenate(parts, axis=2), matrix)

    def reduced(self, times: int) -> _Held:
        """Return means of voxels so that the finest spacing is about ``times`` as large."""
        wanted = times * min(self.spacing)
        factors = np.array([max(1, round(wanted / side)) for side in self.spacing])
        factors = np.minimum(factors, np.maximum(1, np.array(self.values.shape) // 8))
        return _Held(_means(self.values, factors), self.matrix @ _coarser(factors))


def _coarser(factors: NDArray[np.int_]) -> F64:
    """Return from indices of means to indices of the voxels they are of."""
    matrix = np.diag([*factors.astype(float), 1.0])
    matrix[:3, 3] = (factors - 1) / 2
    return matrix


def _means(values: NDArray[Any], factors: NDArray[np.int_]) -> NDArray[np.float32]:
    """Return means of boxes of valid values; those over the end are of what there is."""
    known = np.isfinite(values)
    total, count = np.where(known, values, 0.0), known.astype(np.float32)
    for axis, factor in enumerate(factors):
        if factor > 1:
            starts = np.arange(0, values.shape[axis], factor)
            total, count = (np.add.reduceat(one, starts, axis=axis) for one in (total, count))
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.asarray(np.where(count > 0, total / count, np.nan), np.float32)


class _Level:
    """Points of the fixed volume and their values, and the moving one, at one resolution."""

    def __init__(self, fixed: _Held, moving: _Held, times: int, points: int, enough: float) -> None:
        self.enough = enough
        fine, self.moving = fixed.reduced(times), moving.reduced(times)
        chance = np.random.default_rng(20260301)
        index = np.argwhere(np.isfinite(fine.values))
        if len(index) > points:
            index = index[np.sort(chance.choice(len(index), points, replace=False))]
        self.values = fine.values[tuple(index.T)].astype(np.float64)
        self.places = fine.matrix[:3, :3] @ index.T + fine.matrix[:3, 3:]
        self.back = np.linalg.inv(self.moving.matrix)
        self.bins = [_Binned(self.values), _Binned(self.moving.values[np.isfinite(
            self.moving.values)].astype(np.float64))]  # fmt: skip

    def seen(self, matrix: F64) -> tuple[F64, F64]:
        """Return the values of both at the points where both have one."""
        found = np.empty(len(self.values))
        look_up = looked_up.choose(len(found) * _TIMES)
        look_up(self.moving.values, (self.back @ matrix)[:3], self.places, found)
        known = np.isfinite(found)
        return self.values[known], found[known]


class _Binned:
    """Equal bins between the outer half percents of values."""

    def __init__(self, values: F64) -> None:
        low, high = np.percentile(values, (0.5, 99.5)) if values.size else (0.0, 1.0)
        self.low, self.width = float(low), float(max(high - low, 1e-12)) / (_BINS - 1)

    def of(self, values: F64) -> F64:
        """Return places among the bins, from 0, with their fractions."""
        return np.asarray(np.clip((values - self.low) / self.width, 0.0, _BINS - 1 - 1e-9))


class _Search:
    """The search for six parameters: x, y, z of the shift (mm), and of the turn (degrees)."""

    def __init__(self, fixed: _Held, moving: _Held, likeness: Likeness) -> None:
        self.fixed, self.moving = fixed, moving
        self.center = fixed.middle
        self.levels = [_Level(fixed, moving, *one) for one in _LEVELS]
        self.level = self.levels[-1]
        self.measure: Callable[[F64, F64, _Level], float] = (
            _correlation if likeness == "correlation" else _information)  # fmt: skip

    def matrix(self, given: F64) -> F64:
        """Return from the fixed volume's millimetres to the moving one's."""
        from scipy.spatial.transform import Rotation

        out = np.eye(4)
        out[:3, :3] = Rotation.from_rotvec(given[3:], degrees=True).as_matrix()
        out[:3, 3] = self.center + given[:3] - out[:3, :3] @ self.center
        return out

    def cost(self, given: F64) -> float:
        """Return how unlike both are under parameters; 0 where they hardly overlap."""
        first, second = self.level.seen(self.matrix(given))
        if len(first) < _OVERLAP * len(self.level.values) or len(first) < 50:
            return 0.0
        return -self.measure(first, second, self.level)

    def run(self) -> tuple[F64, F64]:
        """Return the parameters found, and those that another start leads to."""
        self.level = self.levels[0]
        starts = [np.zeros(6), np.r_[self.moving.middle - self.center, 0, 0, 0]]
        turned = [start + np.r_[0, 0, 0, turn] for start in starts
                  for turn in 8.0 * np.vstack([np.eye(3), -np.eye(3)])]  # fmt: skip
        ranked = sorted([*starts, *turned], key=self.cost)[:2]
        coarse = sorted((self._best(start) for start in ranked), key=self.cost)
        reach = max(self.level.moving.spacing)
        nudge = np.array([1.0, -1.0, 1.0, -1.0, 1.0, -1.0]) * reach / 3
        ends = []
        for start in (coarse[0], coarse[0] + nudge):
            for level in self.levels[1:]:
                self.level = level
                start = self._best(start)
            ends.append(start)
        ends.sort(key=self.cost)
        return ends[0], ends[1]

    def _best(self, start: F64) -> F64:
        from scipy.optimize import minimize

        step = max(self.level.moving.spacing)
        found = minimize(
            self.cost, start, method="Powell",
            options={"direc": np.eye(6) * step, "xtol": self.level.enough * 10,
                     "ftol": self.level.enough, "maxiter": 12},
        )  # fmt: skip
        return np.asarray(found.x)

    def corners(self, given: F64) -> F64:
        """Return where the fixed volume's corners go."""
        ends = np.array(np.meshgrid(*[(0, n - 1) for n in self.fixed.values.shape])).reshape(3, -1)
        matrix = self.matrix(given) @ self.fixed.matrix
        return np.asarray(matrix[:3, :3] @ ends + matrix[:3, 3:])

    def check_chance(self, after: float, moving: str, fixed: str) -> None:
        """Raise GridMismatch where chance places make both as much alike."""
        self.level = self.levels[0]
        chance = np.random.default_rng(5)
        reach = min(np.array(self.fixed.values.shape) * self.fixed.spacing) / 3
        places = [np.r_[chance.normal(0, reach / 2, 3), chance.normal(0, 60, 3)] for _ in range(40)]
        seen = np.array([cost for cost in map(self.cost, places) if cost < 0])
        self.level = self.levels[-1]
        if after <= 0 or (len(seen) > 5 and after < -seen.mean() + _CHANCE * seen.std()):
            raise GridMismatch(
                f"{moving} on {fixed}: no place was found in which they are more alike than by "
                f"chance ({after:.3g}); they may show different parts, or need a first place by "
                "hand"
            )


def _correlation(first: F64, second: F64, level: _Level) -> float:
    x, y = first - first.mean(), second - second.mean()
    power = float(np.sqrt((x @ x) * (y @ y)))
    return float(x @ y) / power if power > 0 else 0.0


def _information(first: F64, second: F64, level: _Level) -> float:
    """Return normalised mutual information: 1 where one tells nothing of the other, 2 where all.

    Values count in the two bins they lie between, by their shares, so that it changes smoothly.
    """
    x, y = level.bins[0].of(first), level.bins[1].of(second)
    i, j = x.astype(np.int64), y.astype(np.int64)
    a, b = x - i, y - j
    code = i * _BINS + j
    joint = np.zeros(_BINS * _BINS)
    for step, weight in ((0, (1 - a) * (1 - b)), (1, (1 - a) * b), (_BINS, a * (1 - b)),
                         (_BINS + 1, a * b)):  # fmt: skip
        joint += np.bincount(code + step, weight, _BINS * _BINS)[: _BINS * _BINS]
    joint = joint.reshape(_BINS, _BINS) / joint.sum()
    both = _entropy(joint)
    return (_entropy(joint.sum(0)) + _entropy(joint.sum(1))) / both if both > 0 else 0.0


def _entropy(shares: F64) -> float:
    some = shares[shares > 0]
    return -float((some * np.log(some)).sum())


def moved(source: Source, alignment: RigidAlignment) -> Source:
    """Return a volume that lies where an alignment says that it belongs; no voxel is touched."""
    matrix = np.array(alignment.matrix, float) @ source.grid.matrix
    grid = replace(source.grid, affine=tuple(map(tuple, matrix.tolist())))
    return Described(source, grid=grid)
