"""Statistics as rows: of bands or of classes, of everything, a region, or each of several zones."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from typing import TYPE_CHECKING, Any

from spectrane.analysis.class_areas import class_rows
from spectrane.analysis.statistics import band_statistics
from spectrane.engine.bars import ProgressLike, told_progress
from spectrane.model.areas import tell_untrue_areas
from spectrane.model.errors import LookError
from spectrane.model.window import whole
from spectrane.spatial.regions import region_of, zones_of

if TYPE_CHECKING:
    from spectrane.model.source import Source

KEYS = ("zone", "band", "class")
"""Columns that say what a row is of."""


def statistics_rows(
    source: Source, bands: Sequence[int], *, region: Any = None, zones: Any = None,
    progress: ProgressLike = None,
) -> list[dict[str, Any]]:  # fmt: skip
    """Return a row per band, or of a raster of classes per class that occurs; per zone if any.

    Raises LookError for region and zones at once, GridMismatch where they miss the raster.
    """
    if zones is None:
        parts: list[Any] = [(None, *((source, whole(source.shape)) if region is None
                                     else region_of(source, region)))]  # fmt: skip
    elif region is not None:
        raise LookError("statistics: say region or zones")
    else:
        parts = list(zones_of(source, zones))
    report = told_progress(progress)
    if source.categories:
        tell_untrue_areas(source.grid)
        return class_rows(source, bands[0], parts, report)
    rows = []
    for name, masked, window in parts:
        if window is None:
            continue
        rows += [({} if name is None else {"zone": name}) | asdict(one)
                 for one in band_statistics(masked, bands, window, report)]  # fmt: skip
    return rows
