"""What a picture that was drawn is likely to mislead about: judged from its pixels, and told."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.display.limits import type_range
from spectrane.display.plan import RenderPlan
from spectrane.display.shading import Shading
from spectrane.kernels.ranks import distinct, percentiles
from spectrane.model.limits import CenterWidth, FileWindow, NamedWindow, Type
from spectrane.model.physical import ends, physical
from spectrane.model.pixels import Pixels

_JUDGED = 100_000
_GLANCE = 1000
_WINDOWS = (CenterWidth, FileWindow, NamedWindow)
_TONES, _NUMBERS = 2, 16
"""A picture of no more tones, of more numbers, is told of."""
CUT, SATURATED = 0.2, 0.02
DARK, BRIGHT, NARROW = 0.05, 0.95, 0.1
"""An unstretched picture with such a mean level, or such a share of its type used, is told of."""


def misleading(plan: RenderPlan, pixels: Pixels, rgba: Rgba) -> Iterator[str]:
    """Yield what a person should know of a picture drawn of pixels by a plan.

    That nothing is to be seen, values are of no class, much is cut off or saturated, or an
    unstretched picture is nearly black, white or flat.
    """
    if plan.classes:
        unlisted = int((pixels.shown & (plan.levels(pixels)[0] < 0)).sum())
        if unlisted:
            yield f"{unlisted} pixels are of no class that has a colour and stay transparent"
        return
    # A large picture is judged by every n-th pixel: a warning must not cost more than drawing.
    step = max(1, int((rgba[..., 0].size / _JUDGED) ** 0.5))
    if step > 1:
        every = slice(None, None, step)
        pixels, rgba = pixels.cut((every, every)), rgba[every, every]
    shown = rgba[..., 3] > 0
    if not shown.any():
        yield ("no valid pixel in the area shown: the picture is transparent; check the no-data "
               "value and the area")  # fmt: skip
        return
    colors = plan.shadings[:3]
    for channel, shading in enumerate(colors):
        yield from _cut(plan, shading, _valid_of(pixels, channel))
    if colors and not all(isinstance(shading.rule, Type) for shading in colors):
        yield from _two_tones(plan, pixels, rgba[..., :3][shown])
    if all(isinstance(shading.rule, Type) for shading in colors):
        yield from _unstretched(plan, pixels, float(rgba[..., :3][shown].mean()) / 255)


def _unstretched(plan: RenderPlan, pixels: Pixels, mean: float) -> Iterator[str]:
    colors = plan.shadings[:3]
    seen = [_valid_of(pixels, channel) for channel in range(len(colors))]
    used = max(_used_share(plan, values) for values in seen)
    if DARK <= mean <= BRIGHT and used >= NARROW:
        return
    tries = "; ".join(map(_suggestion, colors, seen))
    what = "nearly black" if mean < DARK else "nearly white" if mean > BRIGHT else "flat"
    yield (
        f"the picture is {what} (mean level {mean:.0%}): the limits are the type's whole range, "
        f"of which the data use {used:.0%}; try limits percentile:2,98 ({tries})"
    )


def _two_tones(plan: RenderPlan, pixels: Pixels, seen: NDArray[np.uint8]) -> Iterator[str]:
    """Tell of a picture of one or two colours whose numbers are more."""
    colors = plan.shadings[:3]
    few = any(color.palette is not None and color.palette.entries <= _NUMBERS for color in colors)
    few = few or any(
        isinstance(color.rule, _WINDOWS) for color in colors
    )  # a step, if it is narrow
    if few or _several(seen[:: max(1, len(seen) // _GLANCE)]) or _several(seen):
        return
    values = [_valid_of(pixels, channel) for channel in range(len(colors))]
    if max(distinct(value).size for value in values) <= _NUMBERS:
        return
    limits = "; ".join(f"{color.band.name} {color.scale.low:.5g} to {color.scale.high:.5g}"
                       for color in colors)  # fmt: skip
    tries = "; ".join(map(_suggestion, colors, values))
    yield (
        f"the picture has no more than {_TONES} tones: the limits ({limits}) leave nothing between "
        f"black and white; try limits percentile:2,98 ({tries})"
    )


def _several(seen: NDArray[np.uint8]) -> bool:
    """Tell whether colours (n, 3) are more than two."""
    packed = seen.astype(np.uint32) @ np.array([1, 256, 65536], np.uint32)
    return distinct(packed).size > _TONES


def _cut(plan: RenderPlan, shading: Shading, values: NDArray[Any]) -> Iterator[str]:
    """Tell where limits cut off much, or a channel stands at the end of its type."""
    if not values.size:
        return
    cut = float((shading.beyond(physical(values, shading.band, np.float64)) != 0).mean())
    if cut > CUT and shading.scale.low != shading.scale.high and not shading.rule.cuts:
        low, high = sorted((shading.scale.low, shading.scale.high))
        yield (f"{shading.band.name}: the limits {low:.6g} to {high:.6g} cut off {cut:.0%} of "
               "the pixels shown; try percentile:2,98")  # fmt: skip
    if plan.dtype.kind in "iu" and plan.dtype.itemsize > 1:
        full = float((values == np.iinfo(plan.dtype).max).mean())
        if full > SATURATED:
            yield (f"{shading.band.name}: {full:.0%} of the pixels shown are at the type's "
                   "greatest number: the channel is saturated")  # fmt: skip


def _valid_of(pixels: Pixels, channel: int) -> NDArray[np.float64]:
    values = pixels.values[channel][pixels.validity[channel]].astype(np.float64)
    return np.asarray(values[np.isfinite(values)])


def _used_share(plan: RenderPlan, values: NDArray[np.float64]) -> float:
    low, high = type_range(plan.dtype)
    return float(values.max() - values.min()) / (high - low) if values.size else 0.0


def _suggestion(shading: Shading, values: Sequence[float] | NDArray[np.float64]) -> str:
    if not len(values):
        return f"{shading.band.name}: no values"
    low, high = ends(percentiles(np.asarray(values), (2, 98)), shading.band)
    return f"{shading.band.name} {low:.5g} to {high:.5g}"
