"""What is drawn on and around slices: letters, cross, outline, gaps between panels."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.display.lettering import caption_height, write
from spectrane.kernels.tables import CLEAR, OPAQUE
from spectrane.model.grid import Grid
from spectrane.spatial.slicing import SlicePlane

GAP = 6
"""Pixels between panels."""
DARK, LIGHT = (14, 14, 14, 255), (235, 235, 225, 255)
_DARK = np.array(DARK, np.uint8).view(np.uint32)[0]


def dark(rows: int, columns: int) -> NDArray[np.uint8]:
    """Return a picture of the dark ground alone.

    >>> dark(1, 2).tolist() == [[list(DARK)] * 2]
    True
    """
    return np.full((rows, columns, 1), _DARK, np.uint32).view(np.uint8)


def on_dark(rgba: Rgba) -> Rgba:
    """Lay a picture on black: what is clear must not look like bright tissue."""
    words = np.ascontiguousarray(rgba).view(np.uint32)[..., 0]
    if words.min(initial=OPAQUE) >= OPAQUE:
        return rgba
    clear = words < CLEAR
    if not ((words < np.uint32(OPAQUE)) & ~clear).any():  # as it mostly is
        return np.where(clear, _DARK, words)[..., np.newaxis].view(np.uint8)
    share = rgba[..., 3]
    alpha = share[..., np.newaxis].astype(np.float32) / 255
    dark = np.array(DARK, np.float32)
    out = np.floor(rgba * alpha + dark * (1 - alpha) + 0.5).astype(np.uint8)
    out[..., 3] = 255
    return out


def write_letters(
    rgba: Rgba, plane: SlicePlane, caption: str, text: int, *, edges: bool = True
) -> None:
    """Write a caption, and with ``edges`` which side of the patient lies at each edge.

    ``text`` is the height of letters in pixels.
    """
    rows, columns = rgba.shape[:2]
    places = {
        "left": (5, rows // 2, "lm"), "right": (columns - 5, rows // 2, "rm"),
        "top": (columns // 2, 4, "ma"), "bottom": (columns // 2, rows - 4, "md"),
    }  # fmt: skip
    for side, letter in plane.labels.items() if edges else ():
        x, y, anchor = places[side]
        write(rgba, (x, y), letter, text, anchor=anchor, rim=DARK)
    write(rgba, (5, 4), caption, caption_height(text), rim=DARK)


def draw_cross(rgba: Rgba, grid: Grid, x: float, y: float) -> None:
    """Draw thin lines through a point, open in the middle."""
    column, row = grid.position(x=x, y=y)
    r, c = int(np.floor(row)), int(np.floor(column))
    gap = max(4, min(rgba.shape[:2]) // 40)
    color = np.array((255, 214, 64, 255), np.uint8)
    if 0 <= r < rgba.shape[0]:
        rgba[r, : max(0, c - gap)] = rgba[r, max(0, c + gap + 1) :] = color
    if 0 <= c < rgba.shape[1]:
        rgba[: max(0, r - gap), c] = rgba[max(0, r + gap + 1) :, c] = color


def draw_rims(rgba: Rgba, labels: Rgba, opacity: float) -> None:
    """Draw the outermost pixels of each colour of ``labels`` (clear where there is none)."""
    words = np.ascontiguousarray(labels).view(np.uint32)[..., 0]
    rim = np.zeros(words.shape, bool)
    for axis in (0, 1):
        other = np.diff(words.astype(np.int64), axis=axis) != 0
        before, after = [slice(None)] * 2, [slice(None)] * 2
        before[axis], after[axis] = slice(None, -1), slice(1, None)
        rim[tuple(before)] |= other
        rim[tuple(after)] |= other
    rim &= labels[..., 3] > 0
    mixed = labels[rim][:, :3] * opacity + rgba[rim][:, :3] * (1 - opacity)
    rgba[rim, :3] = np.floor(mixed + 0.5)


def draw_edge(rgba: Rgba, kept: NDArray[np.bool_]) -> None:
    """Draw a thin line along the inside of what is kept."""
    from scipy.ndimage import binary_erosion

    rgba[kept & ~binary_erosion(kept, border_value=1)] = LIGHT


def checkered(first: Rgba, second: Rgba, side: int) -> NDArray[np.uint8]:
    """Return one picture of two in turn, in squares of so many pixels; the first at the top left.

    >>> first, second = (np.full((2, 2, 4), n, np.uint8) for n in (1, 2))
    >>> checkered(first, second, 1)[..., 0].tolist()
    [[1, 2], [2, 1]]
    """
    rows, columns = (np.arange(n) // side for n in first.shape[:2])
    other = (rows[:, np.newaxis] + columns) % 2 == 1
    return np.where(other[..., np.newaxis], second, first)


def panels_in_a_row(panels: Sequence[Rgba]) -> Rgba:
    """Set panels beside one another."""
    return _joined(panels, axis=1)


def one_below_another(rows: Sequence[Rgba]) -> Rgba:
    """Set rows of panels below one another."""
    return _joined(rows, axis=0)


def _joined(panels: Sequence[Rgba], axis: int) -> NDArray[np.uint8]:
    """Set panels beside or below one another, with gaps, on the dark ground."""
    other = 1 - axis
    length = max(panel.shape[other] for panel in panels)
    total = sum(panel.shape[axis] for panel in panels) + GAP * (len(panels) - 1)
    shape = (length, total) if axis == 1 else (total, length)
    if len(panels) == 1 and panels[0].shape[:2] == shape:
        return panels[0]
    out = dark(*shape)
    place = 0
    for panel in panels:
        rows, columns = panel.shape[:2]
        if axis == 1:
            out[:rows, place : place + columns] = panel
        else:
            out[place : place + rows, :columns] = panel
        place += panel.shape[axis] + GAP
    return out
