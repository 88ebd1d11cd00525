"""Coordinates along a map's frame: round ones, in its units or in degrees, and their lines."""

from __future__ import annotations

import math
from collections.abc import Callable
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.figures.paper import INK
from spectrane.figures.sheets.framing import Framed
from spectrane.figures.sheets.pen import Box, Pen
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch
from spectrane.model.systems import LONLAT, way_between

SMALL = 6.5
"""Points of the letters along a frame."""
_APART = 24.0
"""Millimetres at least from one coordinate to the next."""
_TICK = 1.2
_STEPS = 129
_SIXTIETHS = (0.1, 0.2, 0.5, 1, 2, 5, 10, 15, 20, 30)
F64 = NDArray[np.float64]


@record(frozen=True)
class Tick:
    """A coordinate: where it meets the frame (mm along that edge), its text, and its line."""

    at: float
    text: str
    line: tuple[tuple[float, float], ...] = ()


def draw_ticks(pen: Pen, frame: Framed, coordinates: str, *, lines: bool) -> None:
    """Draw a frame with its coordinates below and left of it; ``lines`` cross the map."""
    below, left = ([], []) if coordinates == "none" else ticks_of(frame, coordinates)
    box = frame.box
    if lines:
        for tick in (*below, *left):
            if len(tick.line) > 1:
                pen.line(tick.line, 0.35, INK, alpha=0.55)
    for tick in below:
        x = box.left + tick.at
        pen.line([(x, box.bottom), (x, box.bottom + _TICK)], 0.5)
        place = _within(x, pen.length(tick.text, SMALL), box.left, box.right)
        pen.text(place, box.bottom + _TICK + 0.4, tick.text, SMALL, ha="center")
    for tick in left:
        y = box.top + tick.at
        pen.line([(box.left, y), (box.left - _TICK, y)], 0.5)
        y = _within(y, pen.length(tick.text, SMALL), box.top, box.bottom)
        pen.text(box.left - _TICK - 0.5, y, tick.text, SMALL, ha="right", va="center", rotation=90)
    pen.rectangle(box, fill=False, edgecolor=INK, linewidth=0.7)


def _within(middle: float, length: float, first: float, last: float) -> float:
    """Return the middle of a text so that it stays beside the frame's edge."""
    return min(max(middle, first + length / 2), max(last - length / 2, first + length / 2))


def ticks_of(frame: Framed, coordinates: str) -> tuple[list[Tick], list[Tick]]:
    """Return the coordinates below and to the left of a frame.

    Raises GridMismatch for degrees of a map without a coordinate system.
    """
    if coordinates == "degrees":
        return _in_degrees(frame)
    extent, box = frame.extent, frame.box
    x_min, y_min, x_max, y_max = extent.bounds
    per_x, per_y = box.width / (x_max - x_min), box.height / (y_max - y_min)
    degrees = extent.base.turn == 360.0
    step = max(_step(1 / per_x, degrees), _step(1 / per_y, degrees))
    up = extent.base.y_up
    below, left = [], []
    for x in _round_between(x_min, x_max, step):
        at = (x - x_min) * per_x
        line = ((box.left + at, box.top), (box.left + at, box.bottom))
        below.append(Tick(at, _degree_text(x, "EW") if degrees else map_text(x, step), line))
    for y in _round_between(y_min, y_max, step):
        at = (y_max - y) * per_y if up else (y - y_min) * per_y
        line = ((box.left, box.top + at), (box.right, box.top + at))
        left.append(Tick(at, _degree_text(y, "NS") if degrees else map_text(y, step), line))
    return below, left


def map_text(value: float, step: float) -> str:
    """Return a coordinate as maps write it: thousands set apart, no more digits than the step has.

    >>> map_text(7357000.0, 1000.0), map_text(0.25, 0.05)
    ('7 357 000', '0.25')
    """
    digits = max(0, math.ceil(-math.log10(step) - 1e-9))
    return f"{value + 0.0:,.{digits}f}".replace(",", " ")


def _step(per_mm: float, degrees: bool) -> float:
    """Return the least round step that is so far on paper."""
    least = _APART * per_mm
    if degrees and least < 1.0:
        seconds = least * 3600
        if seconds <= _SIXTIETHS[-1]:
            return next(s / 3600 for s in _SIXTIETHS if seconds <= s)
        return next((m / 60 for m in _SIXTIETHS[3:] if least <= m / 60 + 1e-12), 1.0)
    power = 10.0 ** math.floor(math.log10(least))
    return next(m * power for m in (1.0, 2.0, 5.0, 10.0) if m * power >= least * (1 - 1e-9))


def _round_between(low: float, high: float, step: float) -> list[float]:
    first, last = math.ceil(low / step - 1e-9), math.floor(high / step + 1e-9)
    return [k * step for k in range(first, last + 1)]


def _degree_text(value: float, letters: str) -> str:
    """Return degrees as people write them: minutes and seconds where they are not whole."""
    if letters == "EW":
        value = (value + 180.0) % 360.0 - 180.0
    letter = "" if abs(value) < 1e-9 else letters[0 if value > 0 else 1]
    tenths = round(abs(value) * 36000)
    degrees, minutes, seconds = tenths // 36000, tenths // 600 % 60, tenths % 600
    text = f"{degrees}°"
    text += f"{minutes:02d}′" if minutes or seconds else ""
    text += (f"{seconds // 10:02d}" + (f".{seconds % 10}" if seconds % 10 else "") + "″"
             if seconds else "")  # fmt: skip
    return text + letter


def _in_degrees(frame: Framed) -> tuple[list[Tick], list[Tick]]:
    """Return longitudes below and latitudes to the left, with their curves over the map."""
    extent, box = frame.extent, frame.box
    if extent.base.crs is None:
        raise GridMismatch("coordinates in degrees: the map has no coordinate system")
    if extent.base.turn == 360.0:
        return ticks_of(frame, "map")
    there, back = (way_between(*pair) for pair in (
        (extent.base.crs_text, LONLAT), (LONLAT, extent.base.crs_text)))  # fmt: skip
    x_min, y_min, x_max, y_max = extent.bounds
    x, y = np.meshgrid(np.linspace(x_min, x_max, 33), np.linspace(y_min, y_max, 33))
    lon, lat = there.transform(x, y)
    if not (np.isfinite(lon).all() and np.isfinite(lat).all()):
        raise GridMismatch("coordinates in degrees: parts of the map have none; say map or none")
    per_mm = max(np.ptp(lon) / box.width, np.ptp(lat) / box.height)
    step = _step(float(per_mm), True)

    def on_paper(lon: F64, lat: F64) -> tuple[F64, F64]:
        x, y = back.transform(lon, lat)
        return (box.left + (x - x_min) / (x_max - x_min) * box.width,
                box.top + (y_max - y) / (y_max - y_min) * box.height)  # fmt: skip

    below = _family(box, on_paper, (lon, lat), step, upright=True)
    left = _family(box, on_paper, (lat, lon), step, upright=False)
    return below, left


def _family(
    box: Box, on_paper: Callable[[F64, F64], tuple[F64, F64]], ranges: tuple[F64, F64],
    step: float, *, upright: bool,
) -> list[Tick]:  # fmt: skip
    """Return meridians, or parallels, with where each meets the lower, or left, edge."""
    own, other = ranges
    margin = float(np.ptp(other)) * 0.2 + step
    along = np.linspace(other.min() - margin, other.max() + margin, 8 * _STEPS)
    found = []
    for value in _round_between(float(own.min()), float(own.max()), step):
        fixed = np.full_like(along, value)
        x, y = on_paper(fixed, along) if upright else on_paper(along, fixed)
        edge, wanted, across = (y, box.bottom, x) if upright else (x, box.left, y)
        low, high = (box.left, box.right) if upright else (box.top, box.bottom)
        meets = [at for at in _crossings(edge, across, wanted) if low <= at <= high]
        inside = ((x >= box.left - 1e-9) & (x <= box.right + 1e-9)
                  & (y >= box.top - 1e-9) & (y <= box.bottom + 1e-9))  # fmt: skip
        line = _clipped(x, y, inside, box)
        if meets:
            start = box.left if upright else box.top
            text = _degree_text(value, "EW" if upright else "NS")
            found.append(Tick(meets[0] - start, text, line))
    return found


def _crossings(edge: F64, across: F64, wanted: float) -> list[float]:
    """Return where along an edge a curve crosses it."""
    before, after = edge[:-1] - wanted, edge[1:] - wanted
    with np.errstate(invalid="ignore"):
        where = np.nonzero((before * after <= 0) & (before != after))[0]
    return [float(across[k] + (across[k + 1] - across[k]) * before[k] / (before[k] - after[k]))
            for k in where]  # fmt: skip


def _clipped(x: F64, y: F64, inside: NDArray[Any], box: Box) -> tuple[tuple[float, float], ...]:
    """Return the part of a curve over the map, to its frame."""
    places = np.nonzero(inside)[0]
    if not places.size:
        return ()
    first, last = max(0, places[0] - 1), min(len(x) - 1, places[-1] + 1)
    part = slice(first, last + 1)
    return tuple(zip(np.clip(x[part], box.left, box.right).tolist(),
                     np.clip(y[part], box.top, box.bottom).tolist(), strict=True))  # fmt: skip
