"""What stands beside a map: scale bar, north arrow, notes, a picture of your own; each knows how
much paper it needs.
"""

from __future__ import annotations

import math
from typing import Any, Protocol

import numpy as np
from numpy.typing import NDArray

from spectrane.figures.paper import INK, MUTED
from spectrane.figures.sheets.framing import Framed
from spectrane.figures.sheets.pen import Box, Pen, line_height
from spectrane.figures.sheets.ticks import SMALL, map_text
from spectrane.kernels.records import record
from spectrane.spatial.ground import Ground, length_text, round_length

TEXT = 7.5
"""Points of ordinary letters."""
HEAD = 8.5
_BAR, _ARROW = 1.8, 11.0
_TURNED = 1.0
"""Degrees by which north may be off the map's up before it is told."""


class SheetElement(Protocol):
    """Something that stands on a sheet."""

    @property
    def name(self) -> str:
        """What ``put`` calls it."""

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return (width, height) in mm it takes where so much width is free."""

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw it into a box of that size."""


@record(frozen=True)
class ScaleBar:
    """A bar of a round length, true at the map's middle, and the scale in numbers."""

    frame: Framed
    name: str = "scale"

    def length(self, width: float) -> tuple[float, float]:
        """Return its length in metres and on paper, where so many mm are free.

        The length is true at the map's middle.
        """
        ground = self.frame.extent.ground
        assert ground is not None
        x_min, _, x_max, _ = self.frame.extent.bounds
        per_mm = (x_max - x_min) * ground.across / self.frame.box.width
        metres = round_length(min(width - 14, 60.0) * per_mm)
        return metres, metres / per_mm

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        return min(width, self.length(width)[1] + 14), line_height(TEXT) + _BAR + 5.2

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw four fields, dark and light in turn."""
        metres, long = self.length(box.width)
        scale, ground = self.frame.scale, self.frame.extent.ground
        assert ground is not None
        assert scale is not None
        pen.text(box.left, box.top, scale_text(scale), TEXT)
        top = box.top + line_height(TEXT) + 0.6
        left = box.left + 1.5
        for part in range(4):
            field = Box(left + part * long / 4, top, long / 4, _BAR)
            pen.rectangle(field, facecolor=INK if part % 2 == 0 else "white", edgecolor=INK)
        number, unit = length_text(metres, small=ground.unit == "mm").split(" ")
        for share, text in ((0.0, "0"), (0.5, f"{float(number) / 2:g}"), (1.0, f"{number} {unit}")):
            at = left + share * long
            pen.line([(at, top + _BAR), (at, top + _BAR + 0.9)], 0.5)
            pen.text(at, top + _BAR + 1.2, text, SMALL, ha="center")


def scale_text(scale: float) -> str:
    """Return a scale as it is written.

    >>> scale_text(25000), scale_text(1.8), scale_text(0.5)
    ('1:25 000', '1:1.8', '2:1')
    """
    if scale < 1:
        return f"{round(1 / scale, 6):g}:1"
    return f"1:{map_text(scale, 1.0) if scale >= 1000 else f'{scale:g}'}"


@record(frozen=True)
class North:
    """An arrow to true north at the map's middle; where that is not up, it says by how much."""

    ground: Ground
    name: str = "north"

    def said(self) -> str:
        """Return what is told of it: nothing where the map is upright within a degree."""
        north = self.ground.north or 0.0
        if abs(north) <= _TURNED:
            return ""
        return f"true north lies {abs(north):.1f}° to the {'right' if north > 0 else 'left'}"

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        lines = pen.wrapped(self.said(), width - 14, SMALL) if self.said() else []
        wide = max((pen.length(line, SMALL) for line in lines), default=0.0)
        return min(width, 14 + wide), _ARROW + 4.5

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw the arrow around its middle, and N at its tip."""
        x, y = box.left + 6, box.top + 4.0 + _ARROW / 2
        turn = math.radians(self.ground.north or 0.0)

        def turned(right: float, up: float) -> tuple[float, float]:
            return (x + right * math.cos(turn) + up * math.sin(turn),
                    y + right * math.sin(turn) - up * math.cos(turn))  # fmt: skip

        tip, foot, half = _ARROW / 2, -_ARROW / 2, 2.4
        pen.shape([turned(0, tip), turned(-half, foot), turned(0, foot + 2.4)],
                  facecolor=INK, edgecolor=INK)  # fmt: skip
        pen.shape([turned(0, tip), turned(half, foot), turned(0, foot + 2.4)],
                  facecolor="white", edgecolor=INK)  # fmt: skip
        at = turned(0, tip + 2.0)
        pen.text(*at, "N", HEAD, ha="center", va="center", weight="bold")
        if self.said():
            lines = pen.wrapped(self.said(), box.width - 14, SMALL)
            pen.lines(box.left + 13, y - len(lines) * line_height(SMALL) / 2, lines, SMALL)


@record(frozen=True)
class Notes:
    """A text of your own, in lines as wide as there is room."""

    text: str
    name: str = "notes"

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        lines = pen.wrapped(self.text, width, TEXT)
        wide = max((pen.length(line, TEXT) for line in lines), default=0.0)
        return min(width, wide), len(lines) * line_height(TEXT)

    def draw(self, pen: Pen, box: Box) -> None:
        """Write it."""
        pen.lines(box.left, box.top, pen.wrapped(self.text, box.width + 0.01, TEXT), TEXT)


@record(frozen=True)
class OwnPicture:
    """A picture of your own, in its own proportions."""

    rgba: NDArray[np.uint8]
    name: str = "picture"
    tallest: float = 30.0

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        rows, columns = self.rgba.shape[:2]
        scale = min(width / columns, self.tallest / rows)
        return columns * scale, rows * scale

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw it."""
        pen.image(box, self.rgba)


@record(frozen=True)
class Overview:
    """The whole of a raster, with the map's area on it."""

    rgba: NDArray[np.uint8]
    outline: tuple[tuple[float, float], ...]
    """Corners of the map, as shares of the overview from its upper left corner."""
    sides: float
    """Its width by its height, as they are on the ground."""
    name: str = "inset"

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        wide = min(width, 38.0, 32.0 * self.sides)
        return wide, wide / self.sides

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw the overview, then the map's outline on it."""
        pen.image(box, self.rgba)
        pen.rectangle(box, fill=False, edgecolor=MUTED)
        corners = [(box.left + min(1.0, max(0.0, x)) * box.width,
                    box.top + min(1.0, max(0.0, y)) * box.height)
                   for x, y in self.outline]  # fmt: skip
        for color, width in (("white", 2.4), ("#b8423a", 1.2)):
            pen.shape(corners, fill=False, edgecolor=color, linewidth=width)


@record(frozen=True)
class Globe:
    """A globe with its lines every thirty degrees, and a mark where the map lies."""

    lonlat: tuple[float, float]
    name: str = "inset"

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        side = min(width, 26.0)
        return side, side + line_height(SMALL)

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw it as from far above a place near the map (orthographic projection)."""
        lon, lat = self.lonlat
        radius = (box.height - line_height(SMALL)) / 2 - 0.3
        middle = (box.left + radius + 0.3, box.top + radius + 0.3)
        around = np.linspace(0, 2 * np.pi, 181)
        rim = np.column_stack([middle[0] + radius * np.cos(around),
                               middle[1] + radius * np.sin(around)])  # fmt: skip
        pen.shape(rim.tolist(), facecolor="#eef2f4", edgecolor=MUTED)
        seen_from = (lon, max(-60.0, min(60.0, lat * 0.6)))
        steps = np.linspace(-180, 180, 361)
        for value in range(-180, 180, 30):
            self._curve(pen, seen_from, np.full(361, float(value)), steps / 2, middle, radius)
        for value in range(-60, 61, 30):
            equator = value == 0
            self._curve(pen, seen_from, steps, np.full(361, float(value)), middle, radius,
                        0.8 if equator else 0.35)  # fmt: skip
        x, y, _ = _seen(seen_from, np.array([lon]), np.array([lat]))
        mark = (middle[0] + radius * x[0], middle[1] - radius * y[0])
        half = 0.9
        pen.shape([(mark[0] - half, mark[1] - half), (mark[0] + half, mark[1] - half),
                   (mark[0] + half, mark[1] + half), (mark[0] - half, mark[1] + half)],
                  facecolor="#b8423a", edgecolor="white")  # fmt: skip
        text = (f"{abs(lat):.1f}° {'N' if lat >= 0 else 'S'}, "
                f"{abs(lon):.1f}° {'E' if lon >= 0 else 'W'}")  # fmt: skip
        pen.text(middle[0], box.top + 2 * radius + 1.2, text, SMALL, ha="center")

    @staticmethod
    def _curve(
        pen: Pen, center: tuple[float, float], lon: Any, lat: Any, middle: tuple[float, float],
        radius: float, width: float = 0.35,
    ) -> None:  # fmt: skip
        x, y, front = _seen(center, lon, lat)
        path = np.column_stack([middle[0] + radius * x, middle[1] - radius * y])
        breaks = np.nonzero(np.diff(front.astype(int)))[0] + 1
        for part, visible in zip(np.split(path, breaks), np.split(front, breaks), strict=True):
            if visible[0] and len(part) > 1:
                pen.line([tuple(point) for point in part.tolist()], width, "#8b98a3")


def _seen(center: tuple[float, float], lon: Any, lat: Any) -> tuple[Any, Any, Any]:
    """Return the orthographic projection (Snyder, 1987, eq. 20-3 to 20-5), and what is in front."""
    first, middle = math.radians(center[1]), np.radians(lon - center[0])
    lat = np.radians(lat)
    x = np.cos(lat) * np.sin(middle)
    y = math.cos(first) * np.sin(lat) - math.sin(first) * np.cos(lat) * np.cos(middle)
    front = math.sin(first) * np.sin(lat) + math.cos(first) * np.cos(lat) * np.cos(middle) >= 0
    return x, y, front
