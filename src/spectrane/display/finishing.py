"""A picture to hand on: with its key beside or below it, and a caption."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from spectrane.display.bars import bar_below, bars_panel
from spectrane.display.drawing import Rgba
from spectrane.display.keys import Shown
from spectrane.display.lettering import font_of_height, lines_that_fit, write
from spectrane.display.panels import (
    dark,
    on_dark,
    one_below_another,
    panels_in_a_row,
)
from spectrane.model.asking import checked_side
from spectrane.model.errors import LookError


def with_key_and_caption(
    rgba: Rgba, shown: Sequence[Shown], side: str | None, caption: str | None = None
) -> Rgba:
    """Return a picture on dark ground with its keys at one ``side``, and a caption below all.

    Letters are a fortieth of the picture's height, 12 to 28 pixels. The picture's own pixels stay
    as they are. Raises LookError for another side, and where there is no key to draw.
    """
    checked_side(side)
    text = int(np.clip(len(rgba) // 40, 12, 28))
    out = on_dark(rgba)
    if side is not None:
        out = _with_key(out, shown, side, text)
    if caption:
        out = one_below_another([out, _caption(caption, out.shape[1], text)])
    return out


def _with_key(rgba: Rgba, shown: Sequence[Shown], side: str, text: int) -> Rgba:
    nothing = LookError("bar: the picture has nothing to tell of: no limits, and no classes occur")
    if side == "bottom":
        below = [bar_below(layer, rgba.shape[1], text) for layer in shown]
        keys = [key for key in below if key is not None]
        if not keys:
            raise nothing
        return one_below_another([rgba, *keys])
    key = bars_panel(shown, max(len(rgba), 14 * (text + 4)), text)
    if key is None:
        raise nothing
    return panels_in_a_row([rgba, key] if side == "right" else [key, rgba])


def _caption(caption: str, columns: int, text: int) -> Rgba:
    font = font_of_height(text)
    lines = [line for said in caption.split("\n")
             for line in lines_that_fit(said, font, columns - 12)]  # fmt: skip
    out = dark((text + 4) * len(lines) + 6, columns)
    for number, line in enumerate(lines):
        write(out, (6, number * (text + 4)), line, text)
    return out
