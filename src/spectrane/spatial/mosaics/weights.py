"""How much each raster counts at a pixel: nothing at its edge, everything ``width`` inside."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.model.window import Window, extent, intersection, relative

F32 = NDArray[np.float32]


def continued(windows: Sequence[Window], which: int) -> list[Window]:
    """Return the windows that go on exactly where one ends: its tiles' edges there are none.

    >>> continued([((0, 4), (0, 4)), ((0, 4), (4, 8)), ((0, 4), (6, 9))], 0)
    [((0, 4), (4, 8))]
    """
    own = windows[which]
    found = []
    for k, other in enumerate(windows):
        if k == which or intersection(own, other) is not None:
            continue
        # They touch along one axis, and overlap along the other (or touch at the corner).
        meets = [a[0] <= b[1] and b[0] <= a[1] for a, b in zip(own, other, strict=True)]
        if all(meets):
            found.append(other)
    return found


def edge_distance(window: Window, own: Window, beside: Sequence[Window]) -> F32 | None:
    """Return each pixel's distance, in pixels, to the outer edge of its raster.

    ``window`` lies within ``own``; windows ``beside`` continue it. None: no edge is near (more
    than the window's margin is the caller's to leave).
    """
    if not beside:
        steps = []
        for (a, b), (low, high) in zip(window, own, strict=True):
            at = np.arange(a, b, dtype=np.float32) + np.float32(0.5)
            steps.append(np.minimum(at - np.float32(low), np.float32(high) - at))
        return np.asarray(np.minimum(steps[0][:, np.newaxis], steps[1][np.newaxis, :]))
    covered = np.zeros(extent(window), bool)
    for one in (own, *beside):
        part = intersection(window, one)
        if part is not None:
            covered[relative(part, window)] = True
    if covered.all():
        return None
    from scipy.ndimage import distance_transform_edt

    return np.asarray(distance_transform_edt(covered) - 0.5, np.float32)


def invalid_distance(valid: NDArray[np.bool_]) -> F32 | None:
    """Return each pixel's distance to the nearest invalid one; None where there is none."""
    if valid.all():
        return None
    from scipy.ndimage import distance_transform_edt

    return np.asarray(distance_transform_edt(valid), np.float32)


def feather_weights(
    valid: NDArray[np.bool_], seen: Window, window: Window, own: Window, beside: Sequence[Window],
    width: float,
) -> F32:  # fmt: skip
    """Return the weights min(1, d / width) of a window, 0 where invalid.

    ``valid`` is that of ``seen``: the part of the window, with a margin of ``width`` around it,
    that the raster's ``own`` window holds. ``d`` is the distance to the nearest invalid pixel or
    outer edge.
    """
    margin = int(np.ceil(width)) + 1
    wide = tuple((a - margin, b + margin) for a, b in window)
    part = intersection(window, own)
    assert part is not None
    where = relative(part, window)
    out = np.zeros(extent(window), np.float32)
    canvas = part if not beside else wide
    edge = edge_distance(canvas, own, beside)
    far = (
        np.full(extent(part), np.inf, np.float32) if edge is None else edge[relative(part, canvas)]
    )
    inner = invalid_distance(valid)
    if inner is not None:
        far = np.minimum(far, inner[relative(part, seen)])
    weight = np.minimum(np.float32(1), far / np.float32(width))
    out[where] = np.where(valid[relative(part, seen)], weight, np.float32(0))
    return out
