"""Keys drawn beside or below a picture: bars from end to end, classes, what colours mean."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.display.drawing import Rgba
from spectrane.display.keys import Key, Shown
from spectrane.display.lettering import font_of_height, write
from spectrane.display.panels import LIGHT, dark, on_dark
from spectrane.model.colors import parse_color

_WIDE, _GAP = 14, 6


def bars_panel(layers: Sequence[Shown], rows: int, text: int) -> Rgba | None:
    """Return the keys of layers as a panel of so many rows; None where there is nothing to tell.

    ``text`` is the height of letters in pixels. Values grow upward; a bar is as high as the panel
    allows, up to 25 lines.
    """
    font, line = font_of_height(text), text + 4
    steps = max(2, min(rows - 5 * line, 25 * line))
    keys = [layer.key(steps) for layer in layers]
    columns = [_column(key, rows, font, text) for key in keys if key is not None]
    if not columns:
        return None
    return np.concatenate(columns, axis=1)


def bar_below(shown: Shown, columns: int, text: int) -> Rgba | None:
    """Return a layer's key as a panel of so many columns; None where there is nothing to tell."""
    font, line = font_of_height(text), text + 4
    key = shown.key(max(2, columns - 8 * line))
    if key is None:
        return None
    return _row_of_entries(key, columns, font, text) if key.colors is None else _row(
        key, columns, font, text)  # fmt: skip


def _column(key: Key, rows: int, font: Any, text: int) -> Rgba:
    line = text + 4
    labels = [label for _, label in (*key.ticks, *key.entries)]
    wide = int(max(map(font.getlength, [key.title, *(f"{label}  " for label in labels)])))
    width = max(wide, _WIDE + _GAP + wide if labels else 0) + 2 * _GAP
    out = dark(rows, width)
    write(out, (_GAP, _GAP), key.title, text)
    if key.colors is None:
        for number, (color, label) in enumerate(key.entries):
            _entry(out, _GAP, 2 * line + number * line, color, label, text)
        return out
    top, high = 2 * line + line // 2, len(key.colors)
    strip = key.colors[::-1][: max(0, rows - top)]
    out[top : top + len(strip), _GAP : _GAP + _WIDE] = on_dark(strip[:, np.newaxis])
    left, right, middle, point = _GAP, _GAP + _WIDE - 1, _GAP + _WIDE // 2, line // 2
    below, above = key.cut
    if above is not None:
        _point(out, [(left, top - 1), (right, top - 1), (middle, top - point)], above)
    if below is not None:
        foot = top + high
        _point(out, [(left, foot), (right, foot), (middle, foot + point - 1)], below)
    for at, label in key.ticks:
        y = top + round((1 - at) * (high - 1))
        out[y : y + 1, _GAP + _WIDE : _GAP + _WIDE + 4] = LIGHT
        write(out, (2 * _GAP + _WIDE, y), label, text, anchor="lm")
    return out


def _point(rgba: Rgba, corners: Sequence[tuple[int, int]], color: Any) -> None:
    """Fill a polygon, in place."""
    from PIL import Image, ImageDraw

    image = Image.fromarray(rgba)
    ImageDraw.Draw(image).polygon(list(corners), fill=color)
    rgba[...] = np.asarray(image)


def _row(key: Key, columns: int, font: Any, text: int) -> Rgba:
    assert key.colors is not None
    line = text + 4
    wide = len(key.colors)
    left, top = (columns - wide) // 2, line + _GAP
    out = dark(top + _WIDE + line + 2 * _GAP, columns)
    out[top : top + _WIDE, left : left + wide] = on_dark(key.colors[np.newaxis])
    write(out, (left, _GAP // 2), key.title, text)
    right, middle, point = left + wide, top + _WIDE // 2, line // 2
    below, above = key.cut
    if below is not None:
        _point(out, [(left - 1, top), (left - 1, top + _WIDE - 1), (left - point, middle)], below)
    if above is not None:
        _point(out, [(right, top), (right, top + _WIDE - 1), (right + point - 1, middle)], above)
    free = 0.0
    for at, label in _ends_first(key.ticks):
        x = left + round(at * (wide - 1))
        half = font.getlength(label) / 2 + 3
        if 0 < at < 1 and (x - half < free or x + half > _start_of_last(key, left, wide, font)):
            continue
        free = x + half if at < 1 else free
        out[top + _WIDE : top + _WIDE + 4, x : x + 1] = LIGHT
        write(out, (x, top + _WIDE + 5), label, text, anchor="ma")
    return out


def _ends_first(ticks: Sequence[tuple[float, str]]) -> list[tuple[float, str]]:
    """Return ticks so that the ends are written whatever lies between."""
    return [*ticks[:1], *ticks[-1:], *ticks[1:-1]]


def _start_of_last(key: Key, left: int, wide: int, font: Any) -> float:
    return float(left + wide - 1 - font.getlength(key.ticks[-1][1]) / 2 - 3)


def _row_of_entries(key: Key, columns: int, font: Any, text: int) -> Rgba:
    """Set entries one behind the other, in as many lines as they need."""
    line = text + 4
    places, x, y = [], _GAP, line + _GAP
    for color, label in key.entries:
        wide = 2 * _GAP + _WIDE + int(font.getlength(label)) + 2 * _GAP
        if x + wide > columns and x > _GAP:
            x, y = _GAP, y + line
        places.append((x, y, color, label))
        x += wide
    out = dark(y + line + _GAP, columns)
    write(out, (_GAP, _GAP // 2), key.title, text)
    for left, top, color, label in places:
        _entry(out, left, top, color, label, text)
    return out


def _entry(rgba: Rgba, left: int, top: int, color: str, label: str, text: int) -> None:
    """Draw a swatch with a light edge, and its label."""
    box = rgba[top : top + text + 1, left : left + _WIDE + 1]
    box[...] = LIGHT
    box[1:-1, 1:-1] = parse_color(color)
    write(rgba, (left + _WIDE + _GAP, top), label, text)
