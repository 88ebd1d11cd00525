"""Profiles of volumes: a value by frame, at a voxel or over a region."""

from __future__ import annotations

from typing import Any

from spectrane.analysis.statistics import Moments
from spectrane.analysis.walking import walk
from spectrane.model.source import Source
from spectrane.model.window import Window


def zone_rows(source: Source, zone: str, window: Window) -> list[dict[str, Any]]:
    """Return a row per frame over a window's valid voxels, block by block, in physical values.

    Columns: ``zone frame number time unit count mean std min max``; σ divides by N.
    """
    moments = [Moments() for _ in source.bands]
    for blocks in walk(source, range(len(moments)), window):
        for one, values in zip(moments, blocks, strict=True):
            one.add(values)
    return [
        {"zone": zone, "frame": band.name, "number": number, "time": band.time,
         "unit": band.unit, "count": one.count, **one.physical(band)}
        for number, (band, one) in enumerate(zip(source.bands, moments, strict=True), 1)
    ]  # fmt: skip
