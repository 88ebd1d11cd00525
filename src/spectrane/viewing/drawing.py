"""Drawing what is in view by the display plan, with the pixels kept: another look reads nothing."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.layers import DrawnLayer, Layer, PlannedLayer, Stack, as_layer, common_grid
from spectrane.display.misleading import misleading
from spectrane.display.onto import covers, drawn_with_pixels, redrawn
from spectrane.display.outlines import Outline, draw_outline
from spectrane.model.errors import GridMismatch
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.viewing.session import Session

KEPT = 128 << 20
"""Bytes of pixels that are kept."""


@dataclass(frozen=True, eq=False)
class ViewFrame:
    """A picture, the layers it was blended of, and what about it is to be looked at twice."""

    rgba: NDArray[np.uint8]
    grid: Grid
    planned: tuple[PlannedLayer | None, ...]
    warnings: tuple[str, ...]


@dataclass
class Drawer:
    """Draws sessions; keeps the pixels last read, the longest unused go first."""

    most: int = KEPT
    held: int = 0
    reads: int = 0
    _kept: OrderedDict[Any, tuple[Pixels, int]] = field(default_factory=OrderedDict)
    _lock: Any = field(default_factory=threading.Lock)

    def frame(self, session: Session, size: tuple[int, int] | None = None) -> ViewFrame:
        """Draw what a session shows: the very pixels that ``render`` gives of the same layers.

        Raises GridMismatch, LookError, and what reading raises.
        """
        grid = common_grid(session.base, session.view(size), None)
        drawn: list[DrawnLayer] = []
        planned: list[PlannedLayer | None] = []
        told: list[str] = []
        for layer in session.layers():
            one, plan, said = self._layer(layer, grid)
            told += said
            planned.append(plan)
            if one is not None:
                drawn.append(one)
        return ViewFrame(Stack(grid, tuple(drawn)).blended(), grid, tuple(planned),
                     tuple(dict.fromkeys(told)))  # fmt: skip

    def _layer(
        self, layer: Layer | Outline, grid: Grid
    ) -> tuple[DrawnLayer | None, PlannedLayer | None, Sequence[str]]:
        if isinstance(layer, Outline):
            rgba = draw_outline(layer, grid) if layer.visible else np.zeros((1, 1, 4), np.uint8)
            return (DrawnLayer(layer, layer.title, rgba) if layer.visible else None), None, ()
        if not layer.visible:
            return None, None, ()
        made: Any = as_layer(layer)
        try:
            planned = PlannedLayer.of(made, grid)
            if not covers(planned.source, grid):
                return None, planned, ()
        except GridMismatch as error:
            return None, None, (str(error),)
        rgba, pixels = self._drawn(planned, grid)
        told = (*planned.plan.warnings, *misleading(planned.plan, pixels, rgba))
        return DrawnLayer(made, made.title, rgba, planned), planned, told

    def pixels(self, planned: PlannedLayer, grid: Grid) -> Pixels:
        """Return the pixels of a layer in view, from those kept."""
        return self._drawn(planned, grid)[1]

    def _drawn(self, planned: PlannedLayer, grid: Grid) -> tuple[NDArray[np.uint8], Pixels]:
        """Draw a layer onto the view, from pixels that are kept where they are the same."""
        plan, layer = planned.plan, planned.layer
        key = (id(layer.source), layer.threshold, plan.bands, plan.nodata_when, plan.categories,
               plan.look.resample, grid)  # fmt: skip
        with self._lock:
            known = self._kept.get(key)
            if known is not None:
                self._kept.move_to_end(key)
        if known is not None:
            return redrawn(plan, planned.source, grid, known[0]), known[0]
        rgba, pixels = drawn_with_pixels(plan, planned.source, grid)
        size = int(pixels.values.nbytes)
        with self._lock:
            self.reads += 1
            self._kept[key] = (pixels, size)
            self.held += size
            while self.held > self.most and len(self._kept) > 1:
                _, (_, dropped) = self._kept.popitem(last=False)
                self.held -= dropped
        return rgba, pixels
