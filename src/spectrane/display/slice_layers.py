"""Volumes made ready to be cut: limits, tests and axes found once; slices of them as layers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.layers import AnyLayer, Layer
from spectrane.display.proposals import settled_colormap
from spectrane.display.render import shadings_of
from spectrane.display.shading import Scale
from spectrane.display.volume_layers import VolumeLayer, tested
from spectrane.engine.full import FullSource
from spectrane.model.band import find_bands
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.look import Look
from spectrane.model.patient import aligned_axes, axis_apart, own_turn, reach
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, whole
from spectrane.spatial.slicing import AXES, PLANES, cut, seen_along

_EMPTY = 0.002
"""A slice of which less than this is above the lower limit counts as empty."""


class _Failing(FullSource):
    """What a slice shows that another one, the tested one, does not."""

    def __init__(self, every: Source, kept: Source) -> None:
        self.every, self.kept = every, kept
        self.carry_from(every)
        self.bands, self.dtype, self.grid = every.bands, every.dtype, every.grid
        self.block_shape, self.has_mask = every.block_shape, True

    def at_full(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer what fails alone."""
        passing = self.kept.read(bands, window)
        shown = np.broadcast_to(passing.valid, passing.values.shape).all(axis=0)
        return self.every.read(bands, window).only(np.asarray(~shown))


@dataclass(frozen=True)
class Ready:
    """A volume layer with its limits found and its test made.

    ``every`` is the volume untested; both it and ``source`` lie along the axes that are cut, which
    ``turn`` (3x3) brings back to the patient's.
    """

    layer: VolumeLayer
    source: Source
    every: Source
    turn: NDArray[np.float64]
    frames: list[int]
    look: Look
    scales: tuple[Scale, ...]


def as_layers(layers: Any) -> list[VolumeLayer]:
    """Return volume layers of what is given: one or a list, volumes as they are or layers."""
    listed = list(layers) if isinstance(layers, list | tuple) else [layers]
    return [one if isinstance(one, VolumeLayer) else VolumeLayer(one) for one in listed]


def prepared(
    layers: Sequence[VolumeLayer], axes: str = "patient", like: VolumeLayer | None = None
) -> list[Ready]:
    """Find limits, colour maps and tests once for all slices; the first is the lowest.

    ``axes`` ``own`` turns all of them so that the lowest one's own axes are cut, or those of
    ``like``. Raises GridMismatch where a volume does not meet the lowest one anywhere.
    """
    layers = as_layers(layers)
    if axes not in AXES:
        raise LookError(f"axes {axes!r}: expected {' or '.join(AXES)}")
    if not layers:
        raise LookError("no layers: expected one volume or more")
    for one in layers[1:]:
        check_meeting(layers[0], one)
    turn = own_turn((like or layers[0]).source.grid) if axes == "own" else np.eye(3)
    return [_prepared(one, turn) for one in layers]


def check_meeting(first: VolumeLayer, other: VolumeLayer) -> None:
    """Raise GridMismatch where a volume does not meet the first one anywhere."""
    apart = axis_apart(first.source.grid, other.source.grid)
    if apart:
        raise GridMismatch(f"{other.title} does not meet {first.title} anywhere: {apart}")


def _prepared(layer: VolumeLayer, turn: NDArray[np.float64]) -> Ready:
    source: Source = layer.source
    colored = [band.role for band in source.bands[:3]] == ["red", "green", "blue"]
    frames = [0, 1, 2] if colored else find_bands(source.bands, layer.frame)
    look = layer.look or source.look or Look()
    look, _ = settled_colormap(source, replace(look, channels=None), frames)
    kept, every = seen_along(tested(layer), turn), seen_along(source, turn)
    look = replace(look, channels=None)
    if look.classes:
        return Ready(layer, kept, every, turn, frames, look, ())
    shadings = shadings_of(source, look, frames, whole(source.shape))
    scales = tuple(one.scale for one in shadings)
    # A window keeps its name, and with it its function.
    limits = [s.limits if s.limits.startswith("window:") else f"fixed:{s.low!r},{s.high!r}"
              for s in scales]  # fmt: skip
    return Ready(layer, kept, every, turn, frames, replace(look, limits=limits), scales)


def flat(
    ready: Sequence[Ready], plane: str, where: dict[str, Any]
) -> tuple[list[AnyLayer], list[AnyLayer]]:
    """Return a slice of each volume at the same millimetres as a layer, and those outlined."""
    found: list[AnyLayer] = []
    outlined: list[AnyLayer] = []
    for number, one in enumerate(ready):
        own = dict(where) | ({"resample": "nearest"} if one.look.classes else {})
        if number and own.pop("index", None) is not None:
            own["at"] = _depth(ready[0].source, plane, where["index"])
        try:
            made = cut(one.source, plane, frames=one.frames, **own)
        except GridMismatch:
            if not number:
                raise
            continue  # this one does not reach so far
        found.append(Layer(made, one.look, one.layer.opacity, one.layer.visible,
                           name=one.layer.title, mode=one.layer.mode))  # fmt: skip
        if one.layer.faded and one.layer.visible:
            failing = _Failing(cut(one.every, plane, frames=one.frames, **own), made)
            faint = one.layer.opacity * one.layer.faded
            name = f"{one.layer.title}, faded"
            found.append(Layer(failing, one.look, faint, name=name, mode=one.layer.mode))
            outlined.append(Layer(made, one.look))
    return found, outlined


def _depth(source: Source, plane: str, index: int) -> float:
    """Return the millimetre of a stored plane's middle."""
    across = PLANES[plane][0]
    middle = [(n - 1) / 2 for n in source.shape]
    middle[aligned_axes(source.grid)[across]] = index
    return float((source.grid.matrix[:3, :3] @ middle + source.grid.matrix[:3, 3])[across])


def filled_span(ready: Any, plane: str) -> tuple[float, float]:
    """Return from where to where a volume is not empty across a plane, in mm."""
    low, high = reach(ready.source.grid)
    across = PLANES[plane][0]
    floor = min(ready.scales[0].low, ready.scales[0].high) if ready.scales else 0.0
    band = ready.source.bands[ready.frames[0]]
    seen = []
    for at in np.linspace(low[across], high[across], 66)[1:-1]:
        made = cut(ready.source, plane, at=float(at), frames=ready.frames[:1])
        size = tuple(min(64, n) for n in made.shape)
        pixels = made.read([0], whole(made.shape), size, "nearest")
        values = physical(pixels.values[0], band)
        if (
            np.broadcast_to(pixels.valid, pixels.values.shape)[0] & (values > floor)
        ).mean() > _EMPTY:
            seen.append(float(at))
    if not seen:
        return float(low[across]), float(high[across])
    step = (high[across] - low[across]) / 65
    return max(float(low[across]), min(seen) - step / 2), min(
        float(high[across]), max(seen) + step / 2)  # fmt: skip
