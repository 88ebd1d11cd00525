"""A sheet's legend: ramps with their unit, classes that occur, outlines, what colours mean."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from spectrane.display.keys import Key
from spectrane.display.outlines import Outline
from spectrane.figures.keys import ticks_apart
from spectrane.figures.paper import MUTED
from spectrane.figures.sheets.elements import HEAD, TEXT
from spectrane.figures.sheets.pen import Box, Pen, line_height
from spectrane.figures.sheets.ticks import SMALL
from spectrane.kernels.records import record
from spectrane.model.colors import parse_color

_STRIP, _SWATCH, _POINT = 3.4, 4.6, 2.2


@record(frozen=True)
class LegendKey:
    """One layer's key: its title, and a bar or its entries below."""

    key: Key
    name: str = "legend"

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        high = len(pen.wrapped(self.key.title, width, HEAD, "bold")) * line_height(HEAD)
        if self.key.colors is not None:
            return width, high + 0.8 + _STRIP + 1.4 + line_height(SMALL)
        lines = sum(len(self._lines(pen, text, width)) for _, text in self.key.entries)
        return width, high + lines * line_height(TEXT) + 0.6 * len(self.key.entries)

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw it."""
        lines = pen.wrapped(self.key.title, box.width, HEAD, "bold")
        top = pen.lines(box.left, box.top, lines, HEAD, weight="bold")
        if self.key.colors is not None:
            self._bar(pen, Box(box.left, top + 0.8, box.width, _STRIP))
            return
        for color, text in self.key.entries:
            swatch = Box(box.left, top + 0.4, _SWATCH, line_height(TEXT) - 0.8)
            red, green, blue, alpha = (part / 255 for part in parse_color(color))
            pen.rectangle(swatch, facecolor=(red, green, blue, alpha), edgecolor=MUTED)
            top = pen.lines(box.left + _SWATCH + 1.6, top, self._lines(pen, text, box.width),
                            TEXT)  # fmt: skip
            top += 0.6

    @staticmethod
    def _lines(pen: Pen, text: str, width: float) -> list[str]:
        return pen.wrapped(text, width - _SWATCH - 1.6, TEXT)

    def _bar(self, pen: Pen, box: Box) -> None:
        key = self.key
        assert key.colors is not None
        spare = max(_POINT, pen.length(key.ticks[0][1], SMALL) / 2 if key.ticks else 0,
                    pen.length(key.ticks[-1][1], SMALL) / 2 if key.ticks else 0)  # fmt: skip
        strip = Box(box.left + spare, box.top, max(4.0, box.width - 2 * spare), _STRIP)
        pen.image(strip, key.colors[np.newaxis])
        pen.rectangle(strip, fill=False, edgecolor=MUTED)
        middle = strip.top + _STRIP / 2
        tips = (strip.left - _POINT, strip.right + _POINT)
        for color, at, tip in zip(key.cut, (strip.left, strip.right), tips, strict=True):
            if color is not None:
                pen.shape([(at, strip.top), (at, strip.bottom), (tip, middle)], facecolor=color,
                          edgecolor=MUTED)  # fmt: skip
        for at, text in ticks_apart(key.ticks, strip.width, _InMillimetres(pen), apart=1.5):
            x = strip.left + at * strip.width
            pen.line([(x, strip.bottom), (x, strip.bottom + 0.9)], 0.5)
            pen.text(x, strip.bottom + 1.2, text, SMALL, ha="center")


@record(frozen=True)
class _InMillimetres:
    pen: Pen

    def getlength(self, text: str) -> float:
        return self.pen.length(text, SMALL)


@record(frozen=True)
class OutlineKey:
    """The outlines on a map: a line in its colour, and its name."""

    outlines: tuple[Outline, ...]
    name: str = "legend"

    def size(self, pen: Pen, width: float) -> tuple[float, float]:
        """Return the paper it takes."""
        lines = sum(len(self._lines(pen, one, width)) for one in self.outlines)
        return width, lines * line_height(TEXT) + 0.6 * len(self.outlines)

    def draw(self, pen: Pen, box: Box) -> None:
        """Draw it."""
        top = box.top
        for one in self.outlines:
            middle = top + line_height(TEXT) / 2
            if one.fill is not None:
                swatch = Box(box.left, top + 0.4, _SWATCH, line_height(TEXT) - 0.8)
                pen.rectangle(swatch, facecolor=ink(one.fill, one.opacity), edgecolor="none")
            pen.line([(box.left, middle), (box.left + _SWATCH, middle)], line_width(one) + 1.0,
                     MUTED)  # fmt: skip
            pen.line([(box.left, middle), (box.left + _SWATCH, middle)], line_width(one),
                     ink(one.color, one.opacity))  # fmt: skip
            top = pen.lines(box.left + _SWATCH + 1.6, top, self._lines(pen, one, box.width), TEXT)
            top += 0.6

    @staticmethod
    def _lines(pen: Pen, one: Outline, width: float) -> list[str]:
        return pen.wrapped(one.title, width - _SWATCH - 1.6, TEXT)


def line_width(outline: Outline) -> float:
    """Return an outline's width in points: its picture pixels are of 100 to the inch.

    >>> line_width(Outline((0, 0, 1, 1), width=2))
    1.44
    """
    return round(outline.width * 0.72, 4)


def ink(color: str, opacity: float) -> tuple[float, float, float, float]:
    """Return a colour as Matplotlib has it, its alpha times an opacity."""
    red, green, blue, alpha = parse_color(color)
    return red / 255, green / 255, blue / 255, alpha / 255 * opacity


def legend_elements(
    keys: Sequence[Key], outlines: Sequence[Outline]
) -> list[LegendKey | OutlineKey]:
    """Return a legend's parts: a key for each layer, then the outlines together."""
    found: list[LegendKey | OutlineKey] = [LegendKey(key) for key in keys]
    return [*found, OutlineKey(tuple(outlines))] if outlines else found
