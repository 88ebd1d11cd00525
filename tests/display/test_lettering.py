"""Letters on pictures, against Pillow's own pen."""

from __future__ import annotations

import numpy as np
import pytest
from PIL import Image, ImageDraw, ImageFont

from spectrane.display.lettering import write


@pytest.mark.parametrize("anchor", ["la", "rm", "md"])
@pytest.mark.parametrize("at", [(40, 20), (-3, 2), (79, 39), (500, 500)])
@pytest.mark.parametrize("text", ["axial 3 mm", "two\nlines"])
def test_letters_stand_where_pillow_writes_them(anchor, at, text):
    if "\n" in text and anchor == "md":
        anchor = "ma"
    rng = np.random.default_rng(3)
    ground = rng.integers(0, 255, (40, 80, 4)).astype("u1")
    ground[..., 3] = 255
    image = Image.fromarray(ground)
    font = ImageFont.load_default(12)
    ImageDraw.Draw(image).text(at, text, (250, 9, 9, 255), font, anchor)
    own = ground.copy()
    write(own, at, text, 12, anchor=anchor, color=(250, 9, 9, 255))
    assert np.abs(own.astype(int) - np.asarray(image)).max() <= 1


def test_a_rim_surrounds_letters_and_nothing_else():
    ground = np.full((40, 80, 4), 200, "u1")
    write(ground, (40, 20), "L", 16, anchor="mm", color=(255,) * 4, rim=(0, 0, 0, 255))
    dark, light = (ground[..., 0] < 60), (ground[..., 0] > 250)
    assert dark.any()
    assert light.any()
    rows, columns = np.nonzero(dark)
    inside = (slice(rows.min() + 1, rows.max()), slice(columns.min() + 1, columns.max()))
    assert light.sum() == light[inside].sum()
    assert (ground[:3] == 200).all()
    assert (ground[:, :20] == 200).all()
