"""What a legend says: a bar with round ticks, the bands of the channels, or classes."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.display.adjusting import adjusted
from spectrane.display.shading import Shading, channel_names
from spectrane.kernels import levels
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.colors import Classes, color_text
from spectrane.model.curves import Linear
from spectrane.model.look import Look
from spectrane.model.shortly import short_repr

_APART = 0.07
"""Ticks stand at least this share of the bar apart."""


@record(frozen=True, eq=False)
class Bar:
    """A colour bar: ``colors`` (n, 4) uint8 from one end to the other, ``ticks`` where (0…1) round
    values lie, what they are called, and the title.
    """

    colors: NDArray[np.uint8]
    ticks: tuple[tuple[float, str], ...]
    title: str

    __repr__ = short_repr


@quiet_methods
@record(frozen=True)
class Legend:
    """What a legend says: a ``bar`` for one channel, or else ``channels`` or ``classes``.

    ``channels`` are (channel, what it shows), ``classes`` (colour, label) in the order of their
    numbers. ``color`` answers for any value.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> legend = sp.render(raster, sp.Look(colormap="kiln", limits=(0, 64))).legend()
    >>> [text for _, text in legend.bar.ticks]
    ['0', '10', '20', '30', '40', '50', '60']
    """

    bar: Bar | None
    channels: tuple[tuple[str, str], ...]
    classes: tuple[tuple[str, str], ...]
    shadings: tuple[Shading, ...]
    by_class: Classes
    look: Look

    __repr__ = short_repr

    def color(self, value: float) -> str:
        """Return the colour of a physical value (of one channel, or a class): ``#rrggbb``.

        As it is drawn, but for what neighbours change; transparent for what is of no class.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.arange(64.0).reshape(8, 8))
        >>> sp.render(raster, sp.Look(colormap="grey", limits=(0, 64))).legend().color(64)
        '#ffffff'
        """
        if not self.shadings:
            return self.by_class[value][0] if value in self.by_class else "#00000000"
        colors = _colored(self.shadings[0], self.look, np.array([float(value)]))
        return color_text(colors[0])


def legend_of(
    shadings: Sequence[Shading], classes: Classes, look: Look, steps: int = 256
) -> Legend:
    """Return the legend of a plan's shadings or classes; the bar has ``steps`` colours."""
    listed = tuple((color, label or f"{value:g}") for value, (color, label) in classes.items())
    alone = shadings[0] if len(shadings) == 1 else None
    channels = () if alone is not None else tuple(
        (name, str(one.scale))
        for name, one in zip(channel_names(len(shadings)), shadings, strict=True)
    )  # fmt: skip
    made = None if alone is None else _bar(alone, look, steps)
    return Legend(made, channels, listed, tuple(shadings), classes, look)


def _colored(shading: Shading, look: Look, values: NDArray[np.float64]) -> NDArray[np.uint8]:
    """Return the colours (n, 4) of physical values, as they are drawn without neighbours."""
    return _painted(shading, look, shading.t_at(values), values)


def _painted(
    shading: Shading, look: Look, t: NDArray[np.float64], values: NDArray[np.float64] | None
) -> NDArray[np.uint8]:
    """Return the colours (n, 4) of t, after what a look adds to each pixel by itself."""
    alone = look.without_neighbours()
    t = adjusted([np.nan_to_num(t)[np.newaxis]], np.ones((1, len(t)), bool), alone)[0][0]
    if shading.palette is not None:
        codes = shading.palette.codes(t) if values is None else shading.coded(t, values)
        return shading.palette.colors(codes)
    grey = levels.level(t, 255).astype(np.uint8)
    return np.column_stack([grey, grey, grey, np.full(len(grey), 255, np.uint8)])


def _bar(shading: Shading, look: Look, steps: int) -> Bar:
    """Return the bar of one channel, from low to high.

    Where levels rise with the values, colours run evenly and ticks stand where the curve puts them;
    else values run evenly. Each colour is that of its cell's middle.
    """
    scale = shading.scale
    unit = f" ({scale.unit})" if scale.unit not in (None, "1") else ""
    middle = (np.arange(steps) + 0.5) / steps
    ends = shading.way(np.array([scale.low, scale.high], np.float64))
    rises = shading.monotone and bool(ends[1] > ends[0])
    if rises:
        t = ends[0] + middle * (ends[1] - ends[0])
        colors = _painted(shading, look, 1.0 - t if scale.invert else t, None)
    else:
        colors = _colored(shading, look, scale.low + middle * (scale.high - scale.low))
    ticks = _placed_ticks(shading, ends if rises else None) if scale.high != scale.low else ()
    return Bar(colors, ticks, scale.band + unit)


def _placed_ticks(
    shading: Shading, ends: NDArray[np.float64] | None
) -> tuple[tuple[float, str], ...]:
    """Return round values with their places; under a bent curve also 1, 2 and 5 times 10^n."""
    scale = shading.scale
    wanted = round_ticks(scale.low, scale.high)
    if not isinstance(shading.curve, Linear) and ends is not None:
        first, last = sorted((scale.low, scale.high))
        top = int(np.floor(np.log10(max(abs(first), abs(last), 1e-300))))
        series = [sign * m * 10.0**k for k in range(top, top - 5, -1) for m in (5, 2, 1)
                  for sign in (1, -1)]  # fmt: skip
        wanted += [(v, f"{v:g}") for v in series if first <= v <= last]
    kept: list[tuple[float, str]] = []
    for value, text in wanted:
        if ends is None:
            at = (value - scale.low) / (scale.high - scale.low)
        else:
            t = float(shading.way(np.array([value]))[0])
            at = (t - ends[0]) / (ends[1] - ends[0])
        if all(abs(at - other) >= _APART for other, _ in kept):
            kept.append((float(at), text))
    return tuple(sorted(kept))


def round_ticks(low: float, high: float, about: int = 5) -> list[tuple[float, str]]:
    """Return round values between two ends, with their texts: steps of 1, 2 or 5 times 10^n.

    >>> [text for _, text in round_ticks(0.013, 0.187)]
    ['0.05', '0.10', '0.15']
    """
    first, last = min(low, high), max(low, high)
    span = last - first
    if not (span > 0 and np.isfinite(span)):
        return []
    rough = span / about
    power = 10.0 ** np.floor(np.log10(rough))
    step = min((m * power for m in (1, 2, 2.5, 5, 10)), key=lambda s: abs(span / s - about))
    digits = max(0, int(np.ceil(-np.log10(step) - 1e-9)) + (abs(step / power - 2.5) < 1e-9))
    start = np.ceil(first / step - 1e-9)
    values = [float(k * step) + 0.0 for k in np.arange(start, np.floor(last / step + 1e-9) + 1)]
    if low > high:
        values = values[::-1]
    return [(value, f"{value:.{digits}f}") for value in values]
