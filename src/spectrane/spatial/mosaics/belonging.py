"""Which raster of a mosaic lies where, and what remains at the seams between them."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch
from spectrane.model.physical import physical
from spectrane.model.source import Source
from spectrane.model.view import fitted
from spectrane.model.window import intersection, relative, whole
from spectrane.spatial.mosaics.composing import Composition
from spectrane.spatial.mosaics.joining import Mosaic

NOTHING, SEVERAL = -1, -2
"""In a map of belonging: no raster is valid there; several are mixed."""
STANDS_OUT = 0.5
"""A step at a seam is seen where it is so large a share of what neighbours differ by anyway."""
_PAIRS = 8
"""Fewer pairs of pixels along a seam tell nothing."""


@record(frozen=True)
class SeamStep:
    """What remains at the seam of two rasters in one band.

    ``step`` is the mean of the second less the first across the seam, ``usual`` the mean
    difference of neighbours elsewhere, both in the band's unit, at the size that was looked at.
    """

    first: str
    second: str
    band: str
    pixels: int
    step: float
    usual: float
    unit: str | None

    @property
    def share(self) -> float:
        """The step as a share of what neighbours differ by anyway."""
        return abs(self.step) / self.usual if self.usual > 0 else (np.inf if self.step else 0.0)


@record(frozen=True)
class Belonging:
    """A map of which raster lies where, (rows, columns) of numbers from 0, and the seams' steps."""

    owners: NDArray[np.int32]
    names: tuple[str, ...]
    steps: tuple[SeamStep, ...]

    @property
    def verdict(self) -> str:
        """Say in a line whether a seam stands out, and which most."""
        if not self.steps:
            return "verdict: no two files meet at a seam"
        worst = max(self.steps, key=lambda one: one.share)
        unit = f" {worst.unit}" if worst.unit not in (None, "1") else ""
        said = (f"a step of {worst.step:.3g}{unit} in {worst.band} between {worst.first} and "
                f"{worst.second}, {worst.share:.2g} times what neighbours differ by")  # fmt: skip
        if worst.share < STANDS_OUT:
            return f"verdict: no seam stands out; the largest is {said}"
        return f"verdict: a seam stands out: {said}; try --balance gain, or --rule seam or feather"


def belonging(source: Source, size: tuple[int, int]) -> Belonging:
    """Return which raster lies where in a mosaic, looked at in so many rows and columns at most.

    Raises GridMismatch for a source that is no mosaic.
    """
    if not isinstance(source, Mosaic):
        raise GridMismatch("seams: expected what mosaic returns")
    shape = fitted(whole(source.shape), size)
    shape = (min(shape[0], source.shape[0]), min(shape[1], source.shape[1]))
    scale = tuple(n / m for n, m in zip(source.shape, shape, strict=True))
    grid = source.grid.resized(shape)
    reduced = shape != source.shape
    made = source.composition.smaller(grid, scale) if reduced else source.composition
    owners = _owners(made, shape)
    names = tuple(aligned.name for aligned in made.laid)
    every = list(range(len(source.bands)))
    pixels = made.answer(every, whole(shape))
    steps: list[SeamStep] = []
    for index, band in enumerate(source.bands):
        values = np.where(pixels.validity[index], physical(pixels.values[index], band, np.float64),
                          np.nan)  # fmt: skip
        for (first, second), (count, step, usual) in _steps(owners, values).items():
            steps.append(SeamStep(names[first], names[second], band.name, count, step, usual,
                                  band.unit))  # fmt: skip
    return Belonging(owners, names, tuple(steps))


def _owners(made: Composition, shape: tuple[int, int]) -> NDArray[np.int32]:
    owners = np.full(shape, NOTHING, np.int32)
    rule = made.rule.name
    for which, aligned in enumerate(made.laid):
        part = intersection(aligned.window, whole(shape))
        if part is None:
            continue
        valid = aligned.read([0], part).validity[0]
        here = owners[relative(part, whole(shape))]
        if rule == "bottom":
            here[valid & (here == NOTHING)] = which
        elif rule in ("top", "seam"):
            seams = made.resolved.seams
            seam: Any = None if seams is None else seams[which]
            mine = valid if seam is None else valid & ((seam.at(part) >= 0.5) | (here == NOTHING))
            here[mine] = which
        else:
            here[valid & (here != NOTHING)] = SEVERAL
            here[valid & (here == NOTHING)] = which
    return owners


def _steps(
    owners: NDArray[np.int32], values: NDArray[np.float64]
) -> dict[tuple[int, int], tuple[int, float, float]]:
    """Return per pair of rasters that meet: pairs of pixels, the mean step, the usual one."""
    found: dict[tuple[int, int], list[NDArray[np.float64]]] = {}
    inside = []
    for axis in (0, 1):
        first, second = (np.take(owners, range(start, owners.shape[axis] - 1 + start), axis)
                         for start in (0, 1))  # fmt: skip
        change = np.diff(values, axis=axis)
        known = np.isfinite(change) & (first >= 0) & (second >= 0)
        inside.append(np.abs(change[known & (first == second)]))
        across = known & (first != second)
        low, high = np.minimum(first, second)[across], np.maximum(first, second)[across]
        signed = np.where(first[across] < second[across], 1.0, -1.0) * change[across]
        for pair in {*zip(low.tolist(), high.tolist(), strict=True)}:
            found.setdefault(pair, []).append(signed[(low == pair[0]) & (high == pair[1])])
    every = np.concatenate(inside)
    usual = float(every.mean()) if every.size else 0.0
    made = {pair: np.concatenate(parts) for pair, parts in found.items()}
    return {pair: (len(step), float(step.mean()), usual)
            for pair, step in sorted(made.items()) if len(step) >= _PAIRS}  # fmt: skip


def seam_lines(owners: NDArray[np.int32]) -> NDArray[np.bool_]:
    """Return where one raster's pixels end at another's: (rows, columns)."""
    lines = np.zeros(owners.shape, bool)
    for axis in (0, 1):
        differs = np.diff(owners, axis=axis) != 0
        both = [slice(None), slice(None)]
        for start in (0, 1):
            both[axis] = slice(start, owners.shape[axis] - 1 + start)
            lines[tuple(both)] |= differs
    return np.asarray(lines & (owners != NOTHING))
