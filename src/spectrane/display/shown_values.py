"""Per displayed channel: how often values occur, where the limits lie on them, what is shown."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.channels import shown_bands
from spectrane.display.proposals import settled_colormap
from spectrane.display.render import shadings_of
from spectrane.display.shading import Shading
from spectrane.model.look import Look
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import area, extent, whole

_ENOUGH = 4_000_000
_BINS = 400


@dataclass(frozen=True)
class ShownValues:
    """One channel: counts of physical values in even bins, counts of levels 0…255, and the rest.

    ``below`` and ``above`` are shares of valid values beyond the limits; ``complete`` tells
    whether every pixel was counted.
    """

    channel: str
    band: str
    unit: str | None
    rule: str
    low: float
    high: float
    counts: NDArray[np.int64]
    edges: NDArray[np.float64]
    levels: NDArray[np.int64]
    curve_values: NDArray[np.float64]
    curve_t: NDArray[np.float64]
    below: float
    above: float
    invalid: int
    mean_level: float
    complete: bool


def shown_values(source: Source, look: Look, view: View) -> list[ShownValues]:
    """Return what a histogram of each displayed channel needs; alpha is left out."""
    volume = len(source.shape) == 3
    window = whole(source.shape) if volume else view.window(source.grid)
    bands = shown_bands(source, look)
    look, _ = settled_colormap(source, look, bands)
    shadings = shadings_of(source, look, bands, window)[:3]
    complete = area(window) <= _ENOUGH
    size: tuple[int, ...] | None = None
    if not complete:
        sides = extent(window)
        shrink = (area(window) / _ENOUGH) ** (1 / len(sides))
        size = tuple(max(1, int(side / shrink)) for side in sides)
    names = ("grey",) if len(shadings) == 1 else ("red", "green", "blue")
    pixels = source.read(bands[: len(shadings)], window, size, "nearest")
    valid = np.broadcast_to(pixels.valid, pixels.values.shape)
    return [
        _counted(name, shading, pixels.values[k], valid[k], complete)
        for k, (name, shading) in enumerate(zip(names, shadings, strict=True))
    ]


def _counted(
    name: str, shading: Shading, stored: NDArray[Any], valid: NDArray[np.bool_], complete: bool
) -> ShownValues:
    seen = stored[valid]
    physical = shading.physical(seen)
    finite = np.isfinite(physical)
    seen, physical = seen[finite], physical[finite]
    scale = shading.scale
    low, high = sorted((scale.low, scale.high))
    # Far outliers would squeeze everything else into a line: the axis ends where 0.1 % is left.
    ends = np.percentile(physical, (0.1, 99.9)) if physical.size else np.array([0.0, 1.0])
    span = max(high - low, float(ends[1] - ends[0])) or 1.0
    start, stop = min(low, float(ends[0])) - 0.03 * span, max(high, float(ends[1])) + 0.03 * span
    counts, edges = np.histogram(physical, _BINS, (start, stop))
    t = shading.t(seen)
    levels = np.bincount(np.floor(t * 255 + 0.5).astype(np.intp), minlength=256)
    along = np.linspace(start, stop, 600)
    band = shading.band
    at = (along - band.offset) / band.scale
    total = max(1, physical.size)
    return ShownValues(
        name, scale.band, scale.unit, f"{scale.limits}, {scale.curve}", scale.low, scale.high,
        counts, edges, levels, along, shading.t(at), float((physical < low).sum() / total),
        float((physical > high).sum() / total), int(stored.size - seen.size),
        float(t.mean() * 255) if t.size else float("nan"), complete,
    )  # fmt: skip
