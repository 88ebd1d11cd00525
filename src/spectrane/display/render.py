"""Rendering: one raster, one look, one picture."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.keys import Shown
from spectrane.display.misleading import misleading
from spectrane.display.onto import drawn_with_pixels
from spectrane.display.orientation import lying
from spectrane.display.picture import Picture
from spectrane.display.plan import RenderPlan, resolve
from spectrane.kernels.records import record
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, called, check_answer
from spectrane.model.telling import warn_caller
from spectrane.model.view import View, view_of
from spectrane.spatial.rolled import seen
from spectrane.spatial.turned import upright


def draw_raster(
    source: Source,
    look: Look | None = None,
    *,
    view: View | None = None,
    size: tuple[int, int] | None = None,
) -> Picture:
    """Draw a source as a look says, and the data stay as they are.

    ``size`` is (rows, columns): the picture fits inside without being stretched, and has it
    exactly where the proportions agree; None draws one picture pixel per raster pixel, up to
    2048. Warns (DataWarning) where the picture is likely to mislead. Raises BandError,
    LookError, GridMismatch.
    """
    view = view_of(view)
    source, window = seen(upright(source), view)
    part = source.grid.cropped(window)
    target = view.target(source.grid, size)
    shape = view.shape(source.grid, window, size or view.size) if target is None else target.shape
    check_answer(1, shape, np.dtype(np.uint32))
    plan = resolve(source, look, window)
    plan.tell()
    if target is None:
        target, flips = part.resized(shape).upright(), part.flips()
        pixels = plan.read(source, window, shape)
        rgba = plan.draw(pixels)
    else:
        flips = (False, False)
        rgba, pixels = drawn_with_pixels(plan, source, target)
    for message in misleading(plan, pixels, rgba):
        warn_caller(message)
    name = called(source)
    return Picture(
        _turned(rgba, flips), target, plan.scales, name,
        (*plan.notes, *lying(part, view)),
        plan, InSixteenBits(plan, pixels, flips), (Shown(name, plan, pixels),),
    )  # fmt: skip


@record(frozen=True, eq=False)
class InSixteenBits:
    """A picture drawn again from its pixels with 16 bits; picklable, as pictures are."""

    plan: RenderPlan
    pixels: Pixels
    flips: tuple[bool, bool]

    def __call__(self) -> NDArray[np.uint16]:
        """Return (rows, columns, 4) uint16."""
        return _turned(self.plan.draw(self.pixels, 16), self.flips)


def _turned(rgba: NDArray[Any], flips: tuple[bool, bool]) -> NDArray[Any]:
    rows, columns = (slice(None, None, -1 if flip else 1) for flip in flips)
    return rgba[rows, columns]
