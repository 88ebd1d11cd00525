"""How many voxels and groups survive at each threshold, so that one is chosen with open eyes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from spectrane.analysis.clusters import find_clusters
from spectrane.analysis.compared import compared
from spectrane.analysis.distributions import ThresholdSide
from spectrane.analysis.thresholds import Threshold, Thresholded
from spectrane.engine.volumes import LoadedVolume
from spectrane.kernels.records import record
from spectrane.model.band import find_band
from spectrane.model.errors import LookError
from spectrane.model.source import Source
from spectrane.model.window import whole, window_area

LEVELS = 33
_SMALL = 64_000_000
"""So many voxels are held in memory, to be tested at one level after the other."""


@record(frozen=True)
class Surviving:
    """At one level: how many voxels pass it, in how many groups; ``chosen`` the layer's own."""

    threshold: float
    voxels: int
    groups: int
    chosen: bool = False


def threshold_of(test: Threshold | str) -> Threshold:
    """Return a test as one of a single frame: ``"abs(t) >= 5"``, ``"band(1) < -2"``.

    Raises LookError for expressions that say more.

    >>> threshold_of("abs(t) >= 5").side, threshold_of("t < -2").at
    ('both', -2.0)
    """
    if isinstance(test, Threshold):
        return test
    found = compared(test)
    if found is None or (found.sized and not found.above):
        raise LookError(f"survivors: {test!r} has no single level; expected such as 'abs(t) >= 5', "
                        "or a Threshold")  # fmt: skip
    side: ThresholdSide = "both" if found.sized else "positive" if found.above else "negative"
    return Threshold(found.frame, at=found.level, side=side)


def tested_frame(source: Source, test: Threshold | str, shown: int) -> str:
    """Return the name of the frame that is tested, between bars where its size is."""
    settled = threshold_of(test).settled(source.bands, shown)
    name = source.bands[find_band(source.bands, settled.measure or 1)].name
    return f"|{name}|" if settled.one_sided == "both" else name


def surviving_at(
    source: Source, test: Threshold | str, *, shown: int = 0, neighbours: int = 26,
    least: float = 0, in_mm3: bool = False, levels: Sequence[float] | None = None,
) -> list[Surviving]:  # fmt: skip
    """Return what survives at levels from none to the strongest value, and at the test's own.

    Groups smaller than ``least`` do not, nor do their voxels. Levels of p are spaced by ratio.
    """
    held = LoadedVolume(source) if window_area(whole(source.shape)) <= _SMALL else source
    asked = Thresholded(held, threshold_of(test), shown=shown)
    assert isinstance(asked.test, Threshold)
    own = asked.level()
    falls = asked.test.one_sided == "negative"
    own = -abs(own) if falls else own
    found = []
    for level in sorted({*(levels or _levels(asked, falls)), *([own] if np.isfinite(own) else [])}):
        at = Threshold(asked.tested + 1, at=level, side=asked.test.side,
                       statistic=asked.test.statistic)  # fmt: skip
        groups = find_clusters(Thresholded(held, at), asked.tested, neighbours=neighbours,
                               least=least, in_mm3=in_mm3)  # fmt: skip
        count = sum(group.voxels for group in groups)
        found.append(Surviving(float(level), count, len(groups), level == own))
    return found


def _levels(asked: Thresholded, falls: bool) -> list[float]:
    """Return levels between the weakest value on the tested side and the strongest."""
    assert isinstance(asked.test, Threshold)
    values = asked.physical(asked.tested, whole(asked.shape))
    known = values[np.isfinite(values)]
    if not known.size:
        raise LookError("survivors: the map has no valid voxel")
    if asked.test.statistic == "p":
        some = known[known > 0]
        least = float(some.min()) if some.size else 1.0
        return list(map(float, np.geomspace(min(least, 0.5), 1.0, LEVELS)))
    strongest = float(asked.test.strength(known).max())
    levels = np.linspace(0.0, max(strongest, 0.0), LEVELS)
    return list(map(float, -levels if falls else levels))
