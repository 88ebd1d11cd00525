"""A key drawn in a figure: an upright bar beside a panel, or one that lies below it."""

from __future__ import annotations

import functools
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, Protocol

import numpy as np
from matplotlib.backends.backend_agg import RendererAgg
from matplotlib.figure import FigureBase
from matplotlib.font_manager import FontProperties

from spectrane.display.keys import Key
from spectrane.figures.paper import INK, MUTED, Box, in_shares, sides
from spectrane.kernels.records import record

STEPS = 256
"""Colours of a bar."""
LINE = 15
"""Pixels from one line of small letters to the next."""
_STRIP, _GAP, _POINT = 14, 6, 8


class Measuring(Protocol):
    """Tells how long a text is."""

    def getlength(self, text: str) -> float:
        """Return a text's length."""


@functools.cache
def _renderer(dots: float) -> Any:
    """Return what measures texts, whatever a figure is drawn by."""
    made: Any = RendererAgg
    return made(8, 8, dots)


@record(frozen=True)
class Letters:
    """Small letters of a figure, to measure texts with."""

    figure: FigureBase
    points: float = 9.0
    weight: str = "normal"

    def getlength(self, text: str) -> float:
        """Return how many pixels a text is wide."""
        font = FontProperties(size=self.points, weight=self.weight)
        renderer = _renderer(float(self.figure.get_figure(root=True).dpi))
        return float(renderer.get_text_width_height_descent(text, font, False)[0])


def one_key(keys: Sequence[Key]) -> Key | None:
    """Return the one key that says what all of several say: they differ in titles at most.

    Ends that values lie beyond in any are marked. None where they tell different things.
    """
    first = keys[0]
    for key in keys[1:]:
        same = (key.ticks, key.entries) == (first.ticks, first.entries) and (
            np.array_equal(key.colors, first.colors) if key.colors is not None
            and first.colors is not None else key.colors is first.colors
        )  # fmt: skip
        if not same:
            return None
    cuts: Any = tuple(next((key.cut[end] for key in keys if key.cut[end]), None) for end in (0, 1))
    return replace(first, title=" / ".join(dict.fromkeys(key.title for key in keys)), cut=cuts)


def room_for(keys: Sequence[Key], side: str | None, letters: Letters, along: float) -> float:
    """Return how many pixels keys take from a panel at a side; ``along`` is that side's length."""
    if side is None or not keys:
        return 0
    if side == "bottom":
        return sum(_high(key, letters, along) for key in keys)
    return sum(_wide(key, letters) for key in keys)


def draw_keys(figure: FigureBase, keys: Sequence[Key], side: str | None, box: Box) -> None:
    """Draw keys into a box of pixels, one beside or below another."""
    letters = Letters(figure)
    left, top, wide, high = box
    for key in keys if side else ():
        if side == "bottom":
            _lying(figure, key, (left, top, wide, high), letters)
            top += _high(key, letters, wide)
        else:
            _upright(figure, key, (left, top, wide, high), letters)
            left += _wide(key, letters)


def _wide(key: Key, letters: Letters) -> float:
    labels = [text for _, text in (*key.ticks, *key.entries)]
    longest = max(map(letters.getlength, labels), default=0.0)
    return max(letters.getlength(key.title), _STRIP + 2 * _GAP + longest) + 2 * _GAP


def _high(key: Key, letters: Letters, along: float) -> float:
    if key.colors is not None:
        return 2 * LINE + _STRIP + 2 * _GAP
    return LINE * (1 + len(_lines(key, letters, along))) + _GAP


def _lines(key: Key, letters: Letters, along: float) -> list[list[tuple[float, str, str]]]:
    """Set entries one behind another: lines of (x, colour, text)."""
    lines: list[list[tuple[float, str, str]]] = [[]]
    x = 0.0
    for color, text in key.entries:
        wide = _STRIP + _GAP + letters.getlength(text) + 2 * _GAP
        if x + wide > along and lines[-1]:
            lines.append([])
            x = 0.0
        lines[-1].append((x, color, text))
        x += wide
    return lines


def _write(figure: FigureBase, x: float, y: float, text: str, **how: Any) -> None:
    wide, high = sides(figure)
    figure.text(x / wide, 1 - y / high, text, color=INK, fontsize=9, **how)


def _swatch(figure: FigureBase, x: float, y: float, color: str) -> None:
    axes = figure.add_axes(in_shares(figure, (x, y, _STRIP, LINE - 4)))
    axes.set_facecolor(color)
    axes.set_xticks([])
    axes.set_yticks([])
    for spine in axes.spines.values():
        spine.set_color(MUTED)


def _upright(figure: FigureBase, key: Key, box: Box, letters: Letters) -> None:
    left, top, _, high = box
    left += _GAP
    _write(figure, left, top, key.title, va="top")
    if key.colors is None:
        for number, (color, text) in enumerate(key.entries):
            y = top + LINE * (number + 1.4)
            if y + LINE > top + high:
                _write(figure, left, y, f"… and {len(key.entries) - number} more", va="top")
                break
            _swatch(figure, left, y, color)
            _write(figure, left + _STRIP + _GAP, y + LINE / 2 - 2, text, va="center")
        return
    strip = (left, top + LINE + _POINT + 2, _STRIP, high - LINE - 2 * _POINT - 4)
    axes = _strip(figure, strip, key.colors[::-1, np.newaxis])
    axes.set_yticks([place for place, _ in key.ticks], [text for _, text in key.ticks])
    axes.yaxis.tick_right()
    _points(axes, key, _POINT / strip[3], upright=True)


def _lying(figure: FigureBase, key: Key, box: Box, letters: Letters) -> None:
    left, top, wide, _ = box
    _write(figure, left, top + 2, key.title, va="top")
    if key.colors is None:
        for number, line in enumerate(_lines(key, letters, wide)):
            for x, color, text in line:
                y = top + LINE * (number + 1) + 4
                _swatch(figure, left + x, y, color)
                _write(figure, left + x + _STRIP + _GAP, y + LINE / 2 - 2, text, va="center")
        return
    spare = letters.getlength(max((text for _, text in key.ticks), key=len, default="")) / 2 + 2
    strip = (left + spare, top + LINE + 4, max(2.0, wide - 2 * spare), _STRIP)
    axes = _strip(figure, strip, key.colors[np.newaxis])
    ticks = ticks_apart(key.ticks, strip[2], letters)
    axes.set_xticks([place for place, _ in ticks], [text for _, text in ticks])
    _points(axes, key, _POINT / strip[2], upright=False)


def ticks_apart(
    ticks: Sequence[tuple[float, str]], length: float, letters: Measuring, apart: float = 6
) -> list[tuple[float, str]]:
    """Return the ends, and of the ticks between those whose texts are ``apart`` from others."""
    if len(ticks) < 2:
        return list(ticks)
    *between, last = ticks[1:]
    kept = [ticks[0]]

    def free(one: tuple[float, str], other: tuple[float, str]) -> bool:
        half = (letters.getlength(one[1]) + letters.getlength(other[1])) / 2 + apart
        return abs(one[0] - other[0]) * length >= half

    for tick in between:
        if free(tick, kept[-1]) and free(tick, last):
            kept.append(tick)
    return [*kept, last]


def _strip(figure: FigureBase, box: Box, colors: Any) -> Any:
    axes = figure.add_axes(in_shares(figure, box))
    axes.imshow(colors, aspect="auto", extent=(0, 1, 0, 1), interpolation="nearest")
    axes.set_xticks([])
    axes.set_yticks([])
    axes.tick_params(colors=INK, labelsize=9, length=3, pad=2)
    for spine in axes.spines.values():
        spine.set_color(MUTED)
    return axes


def _points(axes: Any, key: Key, reach: float, *, upright: bool) -> None:
    """Mark ends that values lie beyond with a point in their colour."""
    from matplotlib.patches import Polygon

    for color, at_end, tip in zip(key.cut, (0.0, 1.0), (-reach, 1 + reach), strict=True):
        if color is None:
            continue
        corners = [(0.0, at_end), (1.0, at_end), (0.5, tip)]
        corners = corners if upright else [(y, x) for x, y in corners]
        axes.add_patch(Polygon(corners, facecolor=color, edgecolor=MUTED, clip_on=False))
