"""A pen that draws on a figure in millimetres from its upper left corner, and measures texts."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Polygon
from numpy.typing import NDArray

from spectrane.display.lettering import lines_that_fit
from spectrane.figures.keys import Letters
from spectrane.figures.paper import INK
from spectrane.kernels.records import record

MM = 25.4
"""Millimetres in an inch."""
_LEADING = 1.28
"""From one line of letters to the next, by their size."""


@record(frozen=True)
class Box:
    """A place on paper in mm: its left and upper edge from the sheet's corner, width, height."""

    left: float
    top: float
    width: float
    height: float

    @property
    def right(self) -> float:
        """The right edge."""
        return self.left + self.width

    @property
    def bottom(self) -> float:
        """The lower edge."""
        return self.top + self.height

    def meets(self, other: Box) -> bool:
        """Tell whether two places share any of the paper.

        >>> Box(0, 0, 10, 10).meets(Box(9, 9, 5, 5)), Box(0, 0, 10, 10).meets(Box(10, 0, 5, 5))
        (True, False)
        """
        near = 1e-6
        beside = self.left < other.right - near and other.left < self.right - near
        return beside and self.top < other.bottom - near and other.top < self.bottom - near

    def holds(self, other: Box) -> bool:
        """Tell whether another place lies within this one.

        >>> Box(0, 0, 10, 10).holds(Box(1, 1, 9, 9))
        True
        """
        near = 1e-6
        beside = other.left >= self.left - near and other.right <= self.right + near
        return beside and other.top >= self.top - near and other.bottom <= self.bottom + near

    def __str__(self) -> str:
        return f"{self.width:.1f} x {self.height:.1f} mm at {self.left:.1f},{self.top:.1f}"


def line_height(points: float) -> float:
    """Return mm from one line of letters of a size to the next.

    >>> round(line_height(10), 2)
    4.52
    """
    return points / 72 * MM * _LEADING


class Pen:
    """Draws on a figure: positions and widths in mm, letters and lines in points."""

    def __init__(self, figure: Figure) -> None:
        self.figure = figure
        self.wide, self.high = (float(side) * MM for side in figure.get_size_inches())
        self._drawn = 0
        self._lengths: dict[tuple[str, float, str], float] = {}

    def _next(self) -> int:
        """Return the order of what is drawn now: over all that was drawn before."""
        self._drawn += 1
        return self._drawn

    def at(self, x: float, y: float) -> tuple[float, float]:
        """Return a position as shares of the figure."""
        return x / self.wide, 1 - y / self.high

    def text(
        self, x: float, y: float, text: str, points: float = 8.0, *, color: str = INK,
        **how: Any,
    ) -> Any:  # fmt: skip
        """Write one line; ``how`` is as Matplotlib has it. Nothing in a text is interpreted."""
        how = dict[str, Any](va="top", ha="left", zorder=self._next()) | how
        how |= {"fontsize": points, "color": color, "parse_math": False}
        return self.figure.text(*self.at(x, y), text, **how)

    def lines(
        self, x: float, y: float, lines: Sequence[str], points: float = 8.0, **how: Any
    ) -> float:
        """Write lines below one another, and return where the next would begin."""
        for line in lines:
            self.text(x, y, line, points, **how)
            y += line_height(points)
        return y

    def wrapped(
        self, text: str, width: float, points: float = 8.0, weight: str = "normal"
    ) -> list[str]:
        """Break a text into lines of so many mm; a word that is longer is broken too."""
        font = _Measure(self, points, weight)
        found: list[str] = []
        for line in text.split("\n"):
            for part in lines_that_fit(line, font, width):
                found += _broken(part, font, width)
        return found

    def length(self, text: str, points: float = 8.0, weight: str = "normal") -> float:
        """Return how many mm a text is wide; what was measured once is known."""
        key = (text, points, weight)
        if key not in self._lengths:
            letters = Letters(self.figure, points, weight)
            self._lengths[key] = letters.getlength(text) / self.figure.dpi * MM
        return self._lengths[key]

    def line(
        self, points: Sequence[tuple[float, float]], width: float = 0.6, color: Any = INK,
        **how: Any,
    ) -> None:  # fmt: skip
        """Draw a line through positions, of a width in points."""
        x, y = zip(*(self.at(*point) for point in points), strict=True)
        how = {"zorder": self._next()} | how
        self.figure.add_artist(Line2D(x, y, linewidth=width, color=color, **how))

    def shape(self, points: Sequence[tuple[float, float]], **how: Any) -> None:
        """Draw a filled shape; ``how`` is as Matplotlib has it."""
        corners = np.array([self.at(*point) for point in points])
        how = {"transform": self.figure.transFigure, "linewidth": 0.5,
               "zorder": self._next()} | how  # fmt: skip
        self.figure.add_artist(Polygon(corners, closed=True, **how))

    def rectangle(self, box: Box, **how: Any) -> None:
        """Draw a rectangle."""
        self.shape([(box.left, box.top), (box.right, box.top), (box.right, box.bottom),
                    (box.left, box.bottom)], **how)  # fmt: skip

    def axes(self, box: Box, **how: Any) -> Any:
        """Return axes that fill a box."""
        left, bottom = self.at(box.left, box.bottom)
        place = (left, bottom, box.width / self.wide, box.height / self.high)
        return self.figure.add_axes(place, zorder=self._next(), **how)

    def image(self, box: Box, rgba: NDArray[Any], **how: Any) -> Any:
        """Draw a picture into a box, and return its axes, which count the picture's pixels."""
        axes = self.axes(box)
        rows, columns = rgba.shape[:2]
        axes.imshow(rgba, interpolation="none", aspect="auto", extent=(0, columns, rows, 0), **how)
        axes.set_axis_off()
        return axes


@record(frozen=True)
class _Measure:
    pen: Pen
    points: float
    weight: str

    def getlength(self, text: str) -> float:
        """Return a text's length from those of its words, most of which are known."""
        words = [
            self.pen.length(word, self.points, self.weight) for word in text.split(" ") if word
        ]
        gap = self.pen.length("n n", self.points, self.weight)
        gap -= 2 * self.pen.length("n", self.points, self.weight)
        return sum(words) + gap * max(0, len(words) - 1)


def _broken(line: str, font: _Measure, width: float) -> list[str]:
    """Break a line that is too long anywhere."""
    found = []
    while line and font.getlength(line) > width and len(line) > 1:
        fits = max(1, int(len(line) * width / font.getlength(line)))
        while fits > 1 and font.getlength(line[:fits]) > width:
            fits -= 1
        found.append(line[:fits])
        line = line[fits:]
    return [*found, line]
