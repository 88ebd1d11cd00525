"""Where one raster gives way to what lies below it: along the path on which the two agree best.

Each raster's seam is found once, at a resolution of about a million pixels of overlap, and held as
a small map of weights: 1 on its own side, 0 beyond, rising over the width of the feather.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.window import Window, extent, intersection, window_area
from spectrane.spatial.mosaics.inputs import GridAligned

Chosen = NDArray[np.bool_]
F32 = NDArray[np.float32]
Corrected = Callable[[int, NDArray[Any], int], NDArray[Any]]
"""(raster, stored plane, band) -> corrected stored numbers."""
LOOKED_AT = 1 << 20
_PLAIN = 0.02
"""What a step costs where both agree, as a share of the mean difference: straight is shorter."""


@record(frozen=True)
class Seam:
    """How much a raster counts over what lies below: a map of ``step`` pixels over ``window``."""

    window: Window
    step: int
    weights: F32

    def at(self, window: Window) -> F32:
        """Return the weights of a window of the mosaic, bilinear between the map's pixels."""
        first = [(a - start + 0.5) / self.step - 0.5
                 for (a, _), (start, _) in zip(window, self.window, strict=True)]  # fmt: skip
        padded = np.pad(self.weights, 1, mode="edge")
        size = extent(window)
        # In the padded map's own steps; beyond its rim the rim goes on.
        at = [np.clip(f + 1 + np.arange(n) / self.step, 0, m - 1)
              for f, n, m in zip(first, size, padded.shape, strict=True)]  # fmt: skip
        r, c = (np.minimum(a.astype(np.intp), m - 2) for a, m in
                zip(at, padded.shape, strict=True))  # fmt: skip
        u, v = (at[0] - r)[:, np.newaxis], (at[1] - c)[np.newaxis, :]
        rows = padded[r] * (1 - u) + padded[r + 1] * u
        return np.asarray(rows[:, c] * (1 - v) + rows[:, c + 1] * v, np.float32)


def find_seams(
    laid: Sequence[GridAligned], bands: int, width: float, corrected: Corrected
) -> list[Seam | None]:
    """Return each raster's seam over those before it; None where it just lies on top."""
    seams: list[Seam | None] = []
    for which in range(len(laid)):
        seams.append(_seam(laid, which, seams, bands, width, corrected))
    return seams


def _seam(
    laid: Sequence[GridAligned], which: int, seams: Sequence[Seam | None], bands: int, width: float,
    corrected: Corrected,
) -> Seam | None:  # fmt: skip
    own = laid[which].window
    shared = sum(
        window_area(part) for k in range(which)
        if (part := intersection(laid[k].window, own)) is not None
    )  # fmt: skip
    if not shared:
        return None
    step = max(1, int((shared / LOOKED_AT) ** 0.5))
    # One map pixel around, so that what lies beyond the edge is seen.
    window = tuple((a - step, a - step + (-(-(b - a) // step) + 2) * step) for a, b in own)
    above, above_valid = _read(laid[which], window, step, bands, which, corrected)
    below, below_valid = np.zeros_like(above), np.zeros_like(above_valid)
    for k in range(which):
        if intersection(laid[k].window, window) is None:
            continue
        values, valid = _read(laid[k], window, step, bands, k, corrected)
        seam = seams[k]
        on_top = valid if seam is None else valid & (_sampled(seam, window, step) > 0.5)
        take = on_top | (valid & ~below_valid)
        below = np.where(take, values, below)
        below_valid |= valid
    both = above_valid & below_valid
    if not both.any() or not (below_valid & ~above_valid).any():
        return None
    if not (above_valid & ~below_valid).any():
        return None
    cost = np.abs(above - below).mean(axis=0)
    mine = _own_side(both, above_valid & ~both, below_valid & ~both, cost)
    return Seam(window, step, _ramp(mine, both, width / step))


def _sampled(seam: Seam, window: Window, step: int) -> F32:
    """Return a seam's weights at the middles of a coarser map's pixels."""
    full = seam.at(window)
    middle = step // 2
    return full[middle::step, middle::step]


def _read(
    aligned: GridAligned, window: Window, step: int, bands: int, which: int, corrected: Corrected
) -> tuple[NDArray[np.float64], Chosen]:
    """Return a raster's corrected values on a coarse map, and where all bands are valid."""
    size = tuple(n // step for n in extent(window))
    values, valid = np.zeros((bands, *size)), np.zeros(size, bool)
    inner = tuple(
        (start + -(-max(a - start, 0) // step) * step, start + max(min(b, stop) - start, 0)
         // step * step)
        for (start, stop), (a, b) in zip(window, aligned.window, strict=True)
    )  # fmt: skip
    part = intersection(inner, aligned.window)
    if part is None or any((b - a) < step for a, b in part):
        return values, valid
    wanted = tuple(n // step for n in extent(part))
    pixels = aligned.read(range(bands), part, None if step == 1 else wanted)
    where = tuple(slice((a - start) // step, (a - start) // step + n)
                  for (a, _), (start, _), n in zip(part, window, wanted, strict=True))  # fmt: skip
    for band in range(bands):
        plane = corrected(which, pixels.values[band], band)
        values[band][where] = np.nan_to_num(plane)
    valid[where] = pixels.shown
    return values, valid


def _own_side(both: Chosen, mine: Chosen, other: Chosen, cost: NDArray[np.float64]) -> Chosen:
    """Divide the overlap: True where the upper raster shows."""
    from scipy.ndimage import label

    around = np.ones((3, 3), int)
    parts, count = label(both)
    shown = mine.copy()
    for number in range(1, count + 1):
        part = parts == number
        rows, columns = np.where(part.any(1))[0], np.where(part.any(0))[0]
        box = (slice(max(0, rows[0] - 1), rows[-1] + 2), slice(max(0, columns[0] - 1),
                                                              columns[-1] + 2))  # fmt: skip
        shown[box] |= _divided(part[box], mine[box], other[box], cost[box], around)
    return shown


def _divided(
    part: Chosen, mine: Chosen, other: Chosen, cost: NDArray[np.float64], around: NDArray[Any]
) -> Chosen:
    """Divide one connected overlap along the cheapest path between its two ends."""
    from scipy.ndimage import binary_dilation, distance_transform_edt, label

    by_mine, by_other = (part & binary_dilation(side, around) for side in (mine, other))
    if not by_other.any():
        return part  # nothing of the lower raster lies around it: the upper one covers it
    if not by_mine.any():
        return part  # an island on the lower one: it shows whole
    nearer = part & (distance_transform_edt(~mine) <= distance_transform_edt(~other))
    rim = part & ~np.pad(part, 1)[:-2, 1:-1] | part & ~np.pad(part, 1)[2:, 1:-1]
    rim |= part & ~np.pad(part, 1)[1:-1, :-2] | part & ~np.pad(part, 1)[1:-1, 2:]
    outside = ~(part | mine | other)
    edge = np.zeros_like(part)
    edge[[0, -1], :] = edge[:, [0, -1]] = True
    ends = part & (binary_dilation(outside, around) | edge) | (by_mine & by_other)
    ends, count = label(ends & (rim | edge), around)
    if count != 2:
        return np.asarray(nearer)
    from spectrane.kernels.pathfinding_loops import cheapest_path

    plain = float(cost[part].mean()) * _PLAIN + 1e-12
    priced = np.where(part, cost + plain, np.inf)
    path = cheapest_path(priced, np.argwhere(ends == 1), ends == 2)
    if not len(path):
        return np.asarray(nearer)
    line = np.zeros_like(part)
    line[path[:, 0], path[:, 1]] = True
    sides, number = label(part & ~line)
    labels = line.copy()
    for k in range(1, number + 1):
        side = sides == k
        touches = [int((side & by).sum()) for by in (by_mine, by_other)]
        if touches[0] > touches[1]:
            labels |= side
        elif touches[0] == touches[1]:
            labels |= side & nearer
    return np.asarray(labels)


def _ramp(mine: Chosen, both: Chosen, width: float) -> F32:
    """Return weights that rise from 0 to 1 over a width across the seam."""
    from scipy.ndimage import distance_transform_edt

    if mine.all() or not mine.any():
        return mine.astype(np.float32)
    inward = distance_transform_edt(mine) - 0.5
    outward = distance_transform_edt(~mine) - 0.5
    signed = np.where(mine, inward, -outward)
    return np.asarray(np.clip(0.5 + signed / max(width, 1e-6), 0, 1), np.float32)
