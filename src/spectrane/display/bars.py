"""Colour bars beside a picture: which colour is which physical value, a column per layer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np

from spectrane.display.drawing import Rgba
from spectrane.display.panels import DARK, LIGHT
from spectrane.display.plan import RenderPlan
from spectrane.model.colors import parse_color

_WIDE, _GAP = 14, 6
_MOST_CLASSES = 20


@dataclass(frozen=True)
class Shown:
    """What a bar tells of: a layer's title, and how it is shown."""

    title: str
    plan: RenderPlan


def bars_panel(layers: Sequence[Shown], rows: int, text: int) -> Rgba | None:
    """Return the bars of layers as a panel of so many rows; None where there is nothing to tell.

    ``text`` is the height of letters in pixels. Values grow upward; a bar is as high as the panel
    allows, up to 25 lines.
    """
    from PIL import ImageFont

    font = ImageFont.load_default(text)
    columns = [_column(layer, rows, font, text) for layer in layers
               if layer.plan.shadings or _entries(layer.plan)]  # fmt: skip
    if not columns:
        return None
    out = np.empty((rows, sum(column.shape[1] for column in columns), 4), np.uint8)
    out[...] = DARK
    place = 0
    for column in columns:
        out[:, place : place + column.shape[1]] = column
        place += column.shape[1]
    return out


def _entries(plan: RenderPlan) -> list[tuple[str, str]]:
    """Return (colour, label) of the classes that are seen; of very many, those that have a name."""
    seen = [one for one in plan.legend().classes if parse_color(one[0])[3] > 0]
    if len(seen) > _MOST_CLASSES:
        unnamed = {f"{value:g}" for value in plan.classes}
        seen = [entry for entry in seen if entry[1] not in unnamed]
    return seen[:_MOST_CLASSES]


def _column(shown: Shown, rows: int, font: Any, text: int) -> Rgba:
    from PIL import Image, ImageDraw

    line = text + 4
    found = shown.plan.legend(max(2, min(rows - 4 * line, 25 * line))).bar
    if found is None:
        entries = _entries(shown.plan)
        title, labels = shown.title, [label for _, label in entries]
    else:
        title, labels = found.title, [label for _, label in found.ticks]
    wide = int(max(map(font.getlength, [title, *(f"{label}  " for label in labels)])))
    width = max(wide, _WIDE + _GAP + wide if labels else 0) + 2 * _GAP
    image = Image.new("RGBA", (width, rows), DARK)
    pen = ImageDraw.Draw(image)
    pen.text((_GAP, _GAP), title, fill=LIGHT, font=font, anchor="la")
    if found is None:
        for number, (color, label) in enumerate(entries):
            top = 2 * line + number * line
            pen.rectangle((_GAP, top, _GAP + _WIDE, top + text), fill=parse_color(color))
            pen.text((2 * _GAP + _WIDE, top), label, fill=LIGHT, font=font, anchor="la")
        return np.array(image)
    top, high = 2 * line, len(found.colors)
    drawn = np.array(image)
    strip = found.colors[::-1][: max(0, rows - top)]
    drawn[top : top + len(strip), _GAP : _GAP + _WIDE] = strip[:, np.newaxis]
    image = Image.fromarray(drawn)
    pen = ImageDraw.Draw(image)
    for at, label in found.ticks:
        y = top + round((1 - at) * (high - 1))
        pen.line((_GAP + _WIDE, y, _GAP + _WIDE + 3, y), fill=LIGHT)
        pen.text((2 * _GAP + _WIDE, y), label, fill=LIGHT, font=font, anchor="lm")
    return np.array(image)
