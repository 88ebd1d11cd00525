"""Per displayed channel: how often values occur, where the limits lie on them, what is shown."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.plan import RenderPlan, resolve
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.look import Look
from spectrane.model.marks import tell_picture
from spectrane.model.physical import physical
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.model.window import Window, extent, whole, window_area

_ENOUGH = 4_000_000
_BINS = 400


@record(frozen=True)
class ShownValues:
    """One channel: counts of physical values in even bins, counts of levels as drawn, and the rest.

    ``levels`` are those of the pixels shown: 0…255, or the entries of a colour map.
    ``below`` and ``above`` are shares of valid values beyond the limits; ``complete`` tells
    whether every pixel was counted. ``low`` and ``high`` are the limits, in ``unit``.

    >>> import numpy as np, spectrane as sp
    >>> shown = sp.shown_values(sp.from_array(np.array([[0, 51, 255]], np.uint8)))[0]
    >>> shown.channel, shown.low, shown.high, shown.invalid
    ('grey', 0.0, 255.0, 0)
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


def count_shown(source: Source, look: Look | None, view: View) -> list[ShownValues]:
    """Resolve a look and return what a histogram of each channel needs."""
    window = whole(source.shape) if len(source.shape) == 3 else view.window(source.grid)
    tell_picture(source)
    plan = resolve(source, look, window)
    plan.tell()
    return channel_counts(plan, source, window)


def channel_counts(plan: RenderPlan, source: Source, window: Window) -> list[ShownValues]:
    """Return what a histogram of each displayed channel needs; alpha is left out.

    Raises LookError where colours go by classes: they have no limits.
    """
    if not plan.shadings:
        raise LookError("histogram: colours go by classes, which have no limits; name some "
                        "(limits minmax) to see how often numbers occur")  # fmt: skip
    complete = window_area(window) <= _ENOUGH
    size: tuple[int, ...] | None = None
    if not complete:
        sides = extent(window)
        shrink = (window_area(window) / _ENOUGH) ** (1 / len(sides))
        size = tuple(max(1, int(side / shrink)) for side in sides)
    pixels = plan.read(source, window, size, "nearest")
    if len(window) == 3:  # counted, not seen: any rows and columns will do
        pixels = pixels.flattened()
    counts = plan.counts(pixels)
    return [
        _counted(plan, k, pixels.values[k], pixels.validity[k], counts[k], complete)
        for k in range(len(counts))
    ]


def _counted(
    plan: RenderPlan, channel: int, stored: NDArray[Any], valid: NDArray[np.bool_],
    levels: NDArray[np.int64], complete: bool,
) -> ShownValues:  # fmt: skip
    shading = plan.shadings[channel]
    seen = physical(stored[valid], shading.band, np.float64)
    seen = seen[np.isfinite(seen)]
    scale = shading.scale
    low, high = sorted((scale.low, scale.high))
    # Far outliers would squeeze everything else into a line: the axis ends where 0.1 % is left.
    ends = np.percentile(seen, (0.1, 99.9)) if seen.size else np.array([0.0, 1.0])
    low, high = (low, high) if np.isfinite(low + high) else (float(ends[0]), float(ends[1]))
    span = max(high - low, float(ends[1] - ends[0])) or 1.0
    start, stop = min(low, float(ends[0])) - 0.03 * span, max(high, float(ends[1])) + 0.03 * span
    counts, edges = np.histogram(seen, _BINS, (start, stop))
    along = np.linspace(start, stop, 600)
    where = shading.beyond(seen)
    total, drawn = max(1, seen.size), int(levels.sum())
    mean = float(np.dot(levels, np.arange(len(levels)))) / drawn if drawn else float("nan")
    return ShownValues(
        plan.channels[channel], scale.band, scale.unit, f"{scale.limits}, {scale.curve}",
        scale.low, scale.high, counts, edges, levels, along, shading.t_at(along),
        float((where < 0).sum() / total), float((where > 0).sum() / total),
        int(stored.size - seen.size), mean, complete,
    )  # fmt: skip
