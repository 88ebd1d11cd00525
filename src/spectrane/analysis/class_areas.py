"""How many pixels, how much ground and what share each class has."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.engine.threads import Progress, no_progress
from spectrane.model.areas import pixel_areas
from spectrane.model.colors import Classes
from spectrane.model.frozen import FrozenMapping
from spectrane.model.patience import check_work
from spectrane.model.source import Source
from spectrane.model.window import Window, window_area

Zones = Sequence[tuple[str | None, Source, Window | None]]


def class_rows(
    source: Source, band: int, zones: Zones, progress: Progress = no_progress
) -> list[dict[str, Any]]:  # fmt: skip
    """Return a row per zone and class that occurs: pixels, share of the valid ones, area.

    ``zones`` are names (None: no zone) with a source masked to it and the window that holds it.
    Areas are NaN where pixels have none on the ground.
    """
    classes: Classes = source.look.classes if source.look is not None else FrozenMapping()  # type: ignore[assignment]
    rows: list[dict[str, Any]] = []
    for name, masked, window in zones:
        found = {} if window is None else _counted(masked, band, window, progress)
        total = sum(pixels for pixels, _ in found.values())
        for value in sorted(found):
            pixels, area = found[value]
            label = classes[value][1] if value in classes else ""
            rows.append(({} if name is None else {"zone": name}) | {
                "class": value, "label": label or f"{value:g}", "pixels": pixels,
                "share": pixels / total, "hectares": area / 1e4, "km2": area / 1e6,
            })  # fmt: skip
    return rows


def _counted(
    source: Source, band: int, window: Window, progress: Progress
) -> dict[float, tuple[int, float]]:
    """Return the pixels and the m² of each number among valid pixels."""
    found: dict[float, tuple[int, float]] = {}
    total, done = window_area(window), 0
    check_work(total, source.name)
    for place, pixels in source.blocks([band], window):
        valid = pixels.validity[0]
        values, at = np.unique(pixels.values[0][valid], return_inverse=True)
        counts = np.bincount(at.ravel(), minlength=len(values))
        areas = pixel_areas(source.grid, place[0], place[1])
        ground = np.full(len(values), np.nan)
        if areas is not None:
            weights = np.broadcast_to(areas, valid.shape)[valid]
            ground = np.bincount(at.ravel(), weights=weights, minlength=len(values))
        for value, count, area in zip(values.tolist(), counts, ground, strict=True):
            before = found.get(float(value), (0, 0.0))
            found[float(value)] = (before[0] + int(count), before[1] + float(area))
        done += window_area(place)
        progress(done, total)
    return found
