"""What looks wrong in a place that a picture was given, and the likely cure."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.model.source import Source
from spectrane.model.systems import LONLAT, parsed_system, turn_of, way_between
from spectrane.model.telling import warn_caller
from spectrane.spatial.fitting import Transformation

F64 = NDArray[np.float64]
_MANY = 3.0
"""A root mean square miss of more pixels than this is warned of."""
_STRETCHED = 1.5
"""Pixels longer than this by their width, on the ground and in units, are warned of."""
_BEYOND = 5.0
"""Degrees by which a place may lie outside a coordinate system's area of use."""


def tell_misfit(rms_pixels: float, doubted: Sequence[str], worst: str | None) -> None:
    """Warn of tie points that miss by many pixels, and say which is wrong where that is told."""
    if rms_pixels <= _MANY:
        return
    if len(doubted) == 1:
        cure = f"point {doubted[0]} is likely wrong (--leave-out {doubted[0]} fits without it)"
    elif doubted:
        listed = ", ".join(doubted[:-1]) + f" and {doubted[-1]}"
        cure = f"the points do not tell which of {listed} is wrong; add one, or check them"
    else:
        cure = (f"no single point explains it; the greatest miss is at {worst}; check "
                "rows and columns, the order of x and y, and the kind of fit")  # fmt: skip
    warn_caller(f"the tie points miss by {rms_pixels:.3g} pixels (root mean square): {cure}")


def tell_stretched(source: Source, transformation: Transformation, crs: str | None) -> None:
    """Warn of pixels that come out stretched both in map units and on the ground."""
    rows, columns = source.shape
    slopes = transformation.slopes(columns / 2, rows / 2)
    _, latitude = transformation.forward(columns / 2, rows / 2)
    turn = turn_of(crs)
    ground = slopes.copy()
    if turn is not None:
        ground[0] *= math.cos(2 * math.pi * float(latitude) / turn)
    ratios = []
    for one in (slopes, ground):
        across, down = np.hypot(*one[:, 0]), np.hypot(*one[:, 1])
        ratios.append(float(across / down))
    across_down = min(ratios, key=lambda ratio: abs(math.log(ratio)))
    if max(across_down, 1 / across_down) < _STRETCHED:
        return
    turned = abs(math.log(across_down * (columns / rows) ** 2)) < math.log(_STRETCHED)
    cure = (
        "it looks as if the picture were turned by a quarter: give its four corners (--corners)"
        if turned
        else "check the bounds or corners, their order, and the coordinate system"
    )
    warn_caller(
        f"pixels come out stretched: as wide as {across_down:.3g} times their height, for a "
        f"picture of {columns} x {rows}; {cure}"
    )


def tell_far_off(places: F64, crs: str | None) -> None:
    """Warn of a place outside what its system is for, and tell whether x and y are swapped."""
    if crs is None:
        return
    system = parsed_system(crs)
    use = system.area_of_use
    if use is None:
        return
    way = way_between(system, LONLAT)

    def inside(x: float, y: float) -> bool:
        east, north = way.transform(x, y)
        if not (math.isfinite(east) and math.isfinite(north)):
            return False
        width = (use.east - use.west) % 360.0 or 360.0
        off = (east - use.west + _BEYOND) % 360.0
        across = off <= width + 2 * _BEYOND
        return bool(across and use.south - _BEYOND <= north <= use.north + _BEYOND)

    x, y = places.mean(axis=0).tolist()
    if inside(x, y):
        return
    cure = "x and y may be the other way round" if inside(y, x) else "check both"
    warn_caller(
        f"the place, about {x:.10g},{y:.10g}, lies outside what {system.name} is for ({use.name}): "
        f"{cure}"
    )
