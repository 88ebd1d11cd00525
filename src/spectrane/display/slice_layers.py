"""Volumes made ready to be cut: limits, tests and axes found once; slices of them as layers."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.thresholds import Threshold
from spectrane.analysis.walking import walk
from spectrane.display.layers import Layer, PlannedLayer
from spectrane.display.plan import RenderPlan
from spectrane.display.volume_layers import (
    VolumeLayer,
    kept_by,
    laid_over,
    planned_volume,
    tested,
    volume_layer,
)
from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.look import Look
from spectrane.model.patient import aligned_axes, axis_apart, own_turn, reach
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, whole
from spectrane.spatial.slicing import AXES, PLANES, cut, seen_along

_SEEN, _PLACES = 64, 48
"""Voxels along each axis that are looked at to find what is empty, and places across a plane."""
_EMPTY = 0.002
"""A slice of which less than this is above the lower limit counts as empty."""


class _Failing(Derived, FullSource):
    """What a slice shows that another one, the tested one, does not."""

    def __init__(self, every: Source, kept: Source) -> None:
        super().__init__(every, kept, has_mask=True)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer what fails alone."""
        passing = self.parents[1].read(bands, window)
        shown = passing.validity.all(axis=0)
        return self.parent.read(bands, window).only(np.asarray(~shown))


@record(frozen=True)
class Ready:
    """A volume layer with its limits found and its test made.

    ``every`` is the volume untested; both it and ``source`` lie along the axes that are cut, which
    ``turn`` (3x3) brings back to the patient's.
    """

    layer: VolumeLayer
    source: Source
    every: Source
    turn: NDArray[np.float64]
    plan: RenderPlan

    def meaning(self, *, between: bool = True) -> str:
        """Say what of the layer changes what its picture means: where it is shown, and how voxels
        were mixed (``between`` them, or as they are stored); "" where there is nothing.
        """
        said = []
        test = self.layer.threshold
        if isinstance(test, Threshold):
            kept = kept_by(self.layer)
            assert isinstance(kept.test, Threshold)
            said.append(f"where {kept.test.said(kept.level())}")
        elif test is not None:
            said.append(f"where {test}")
        if self.layer.least:
            unit = "mm3" if self.layer.in_mm3 else "voxels"
            said.append(f"groups of at least {self.layer.least:g} {unit}")
        spacing = self.layer.source.metadata.get("spacing taken as")
        said += [] if spacing is None else [f"spacing taken as {spacing}"]
        if not between:
            said.append("voxels as stored")
        elif (self.plan.classes or not self.layer.source.mixable) and not self.layer.rims:
            said.append("the nearest voxel")
        return ", ".join(said)

    def turned(self, turn: NDArray[np.float64]) -> Ready:
        """Return it turned once more: ``turn`` (3x3) leads from the new axes to those it had."""
        return replace(self, source=seen_along(self.source, turn),
                       every=seen_along(self.every, turn), turn=self.turn @ turn)  # fmt: skip

    @property
    def frames(self) -> tuple[int, ...]:
        """The frames shown: one, or red, green and blue."""
        return self.plan.bands

    def flat(self, source: Source, opacity: float, name: str = "") -> PlannedLayer:
        """Return a slice of the volume as a layer, shown as all of it is."""
        shown = self.layer.visible and not self.layer.rims  # rims are drawn on top of all
        layer = Layer(source, opacity=opacity, visible=shown, mode=self.layer.mode,
                      name=name or self.layer.title)  # fmt: skip
        return PlannedLayer(layer, source, self.plan.on(range(len(self.frames))))


def as_layers(layers: object) -> list[VolumeLayer]:
    """Return volume layers of what is given: one or a list; volumes, (volume, look), layers."""
    pair = isinstance(layers, tuple) and len(layers) == 2 and isinstance(layers[1], Look | None)
    listed = list(layers) if isinstance(layers, list | tuple) and not pair else [layers]
    return [volume_layer(layer) for layer in listed]


def prepared(layers: object, axes: str = "patient", like: VolumeLayer | None = None) -> list[Ready]:
    """Find limits, colour maps and tests once for all slices; the first is the lowest.

    ``axes`` ``own`` turns all of them so that the lowest one's own axes are cut, or those of
    ``like``. Raises GridMismatch where a volume does not meet the lowest one anywhere.
    """
    listed = as_layers(layers)
    if axes not in AXES:
        raise LookError(f"axes {axes!r}: expected {' or '.join(AXES)}")
    if not listed:
        raise LookError("no layers: expected one volume or more")
    for layer in listed[1:]:
        check_meeting(listed[0], layer)
    turn = own_turn((like or listed[0]).source.grid) if axes == "own" else np.eye(3)
    first, *rest = listed
    return [ready_along(layer, turn) for layer in (first, *map(laid_over, rest))]


def check_meeting(first: VolumeLayer, other: VolumeLayer) -> None:
    """Raise GridMismatch where a volume does not meet the first one anywhere."""
    apart = axis_apart(first.source.grid, other.source.grid)
    if apart:
        raise GridMismatch(f"{other.title} does not meet {first.title} anywhere: {apart}")


def ready_along(layer: VolumeLayer, turn: NDArray[np.float64], *, tell: bool = True) -> Ready:
    """Make a volume ready to be cut along turned axes (3x3, to the patient's)."""
    plan, left = planned_volume(layer), tested(layer)
    kept, every = seen_along(left, turn), seen_along(layer.source, turn)
    ready = Ready(layer, kept, every, turn, plan)
    if tell:
        plan.tell()
        _tell_of_nothing(ready, left)
    return ready


def _tell_of_nothing(ready: Ready, left: Source) -> None:
    """Warn of a threshold that leaves no voxel of what it tests."""
    layer = ready.layer
    if layer.threshold is None:
        return
    blocks = walk(left, ready.frames[:1], whole(left.shape))
    if not any(len(block[0]) for block in blocks):
        seen = "all of it is faded" if layer.faded else "nothing of it is seen"
        warn_caller(f"{layer.title}: no voxel is left {ready.meaning()}: {seen}")


def flat(
    ready: Sequence[Ready], plane: str, where: dict[str, Any]
) -> tuple[list[PlannedLayer], list[PlannedLayer]]:
    """Return a slice of each volume at the same millimetres as a layer, and those outlined."""
    cuts: list[PlannedLayer] = []
    outlined: list[PlannedLayer] = []
    for number, one in enumerate(ready):
        own = dict(where) | ({"resample": "nearest"} if one.plan.classes else {})
        if number and own.pop("index", None) is not None:
            own["at"] = _depth(ready[0].source, plane, where["index"])
        try:
            made = cut(one.source, plane, frames=one.frames, **own)
        except GridMismatch:
            if not number:
                raise
            continue  # this one does not reach so far
        cuts.append(one.flat(made, one.layer.opacity))
        if one.layer.faded and one.layer.visible:
            failing = _Failing(cut(one.every, plane, frames=one.frames, **own), made)
            faint = one.layer.opacity * one.layer.faded
            cuts.append(one.flat(failing, faint, f"{one.layer.title}, faded"))
            outlined.append(one.flat(made, 1.0))
    return cuts, outlined


def _depth(source: Source, plane: str, index: int) -> float:
    """Return the millimetre of a stored plane's middle."""
    across = PLANES[plane][0]
    middle = [(n - 1) / 2 for n in source.shape]
    middle[aligned_axes(source.grid)[across]] = index
    return float((source.grid.matrix[:3, :3] @ middle + source.grid.matrix[:3, 3])[across])


def _places_across(source: Source, across: int, size: tuple[int, ...]) -> NDArray[np.float64]:
    """Return where the voxels of a smaller copy lie along a patient's axis (mm), as (i, j, k)."""
    row = source.grid.matrix[across]
    i, j, k = (
        (np.arange(n) + 0.5) * (length / n) - 0.5
        for n, length in zip(size, source.shape, strict=True)
    )
    parts = (row[0] * i)[:, None, None] + (row[1] * j)[None, :, None] + (row[2] * k)[None, None, :]
    return np.asarray(parts + row[3])


def filled_span(ready: Ready, plane: str) -> tuple[float, float]:
    """Return from where to where a volume is not empty across a plane, in mm."""
    low, high = reach(ready.source.grid)
    across = PLANES[plane][0]
    scales = ready.plan.scales
    floor = min(scales[0].low, scales[0].high) if scales else 0.0
    band = ready.source.bands[ready.frames[0]]
    size = tuple(min(_SEEN, n) for n in ready.source.shape)
    pixels = ready.source.read(ready.frames[:1], whole(ready.source.shape), size, "nearest")
    with np.errstate(invalid="ignore"):
        above = pixels.validity[0] & (physical(pixels.values[0], band) > floor)
    places = _places_across(ready.source, across, size)
    edges = np.linspace(low[across], high[across], _PLACES + 1)
    bins = np.clip(np.searchsorted(edges, places, "right") - 1, 0, _PLACES - 1).ravel()
    every = np.bincount(bins, minlength=_PLACES)
    full = np.bincount(bins, above.ravel(), _PLACES) > _EMPTY * np.maximum(every, 1)
    middles = (edges[:-1] + edges[1:]) / 2
    seen = middles[full & (every > 0)].tolist()
    if not seen:
        return float(low[across]), float(high[across])
    step = (high[across] - low[across]) / _PLACES
    return max(float(low[across]), min(seen) - step / 2), min(
        float(high[across]), max(seen) + step / 2)  # fmt: skip
