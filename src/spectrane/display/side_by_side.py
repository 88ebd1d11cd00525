"""Pictures side by side on one sheet, each under its caption."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.lettering import font_of_height, lines_that_fit
from spectrane.display.picture import Picture

_GAP, _CAPTION = 12, 44
_PAPER, _INK = (246, 246, 244), (32, 36, 40)


def side_by_side(pictures: Sequence[Picture], captions: Sequence[str]) -> NDArray[np.uint8]:
    """Return (rows, columns, 4) uint8: pictures in a row, top edges aligned, captions above."""
    from PIL import Image, ImageDraw

    widths = [max(picture.rgba.shape[1], 220) for picture in pictures]
    high = max(picture.rgba.shape[0] for picture in pictures)
    size = (sum(widths) + _GAP * (len(widths) + 1), high + _CAPTION + _GAP)
    sheet = Image.new("RGB", size, _PAPER)
    draw = ImageDraw.Draw(sheet)
    font: Any = font_of_height(13)
    left = _GAP
    for picture, caption, width in zip(pictures, captions, widths, strict=True):
        for number, line in enumerate(lines_that_fit(caption, font, width)[:2]):
            draw.text((left, 8 + 16 * number), line, _INK, font)
        image = Image.fromarray(np.ascontiguousarray(picture.rgba), "RGBA")
        sheet.paste(image, (left, _CAPTION), image)
        left += width + _GAP
    return np.asarray(sheet.convert("RGBA"))
