"""Profiles of volumes: a value by frame, at a voxel or over a region."""

from __future__ import annotations

from typing import Any

import numpy as np

from spectrane.analysis.statistics import Moments
from spectrane.model.source import Source
from spectrane.model.window import Window


def zone_rows(source: Source, zone: str, window: Window) -> list[dict[str, Any]]:
    """Return a row per frame over a window's valid voxels, block by block, in physical values.

    Columns: ``zone frame number time unit count mean std min max``; σ divides by N.
    """
    found = [Moments() for _ in source.bands]
    for _, pixels in source.blocks(range(len(found)), window):
        valid = np.broadcast_to(pixels.valid, pixels.values.shape)
        for one, values, mask in zip(found, pixels.values, valid, strict=True):
            seen = values[mask]
            one.add(seen[np.isfinite(seen)] if seen.dtype.kind == "f" else seen)
    return [
        {"zone": zone, "frame": band.name, "number": number, "time": band.time,
         "unit": band.unit, "count": one.count, **one.physical(band)}
        for number, (band, one) in enumerate(zip(source.bands, found, strict=True), 1)
    ]  # fmt: skip
