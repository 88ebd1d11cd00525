"""Where a map lies, in small: the whole raster it is a part of, another one, or a globe."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.display.layers import AnyLayer, Layer, PlannedLayer, draw_layers
from spectrane.display.picture import Picture
from spectrane.display.sheet_settings import INSETS, SheetSettings
from spectrane.figures.sheets.elements import Globe, Overview, OwnPicture, SheetElement
from spectrane.figures.sheets.framing import Extent
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import Grid
from spectrane.model.regular_files import ReadingAs, path_text
from spectrane.model.source import source_of
from spectrane.opening import open_raster
from spectrane.spatial.coordinates import transformer
from spectrane.spatial.ground import ground_at

_DOTS = (300, 300)
_PART = 0.8
"""A map that shows a smaller share of its raster is shown on the whole of it."""


class Inset:
    """The inset asked for; ``auto`` takes the lowest raster where the map is a part of it, else a
    globe. What it is drawn on is drawn once.
    """

    def __init__(self, layers: Sequence[AnyLayer], settings: SheetSettings) -> None:
        self._word = "none" if settings.where("inset") == "none" else settings.inset
        self._lowest = next(one for one in layers if isinstance(one, Layer | PlannedLayer))
        self._picture: Picture | None = None
        self._grid: Grid = source_of(self._lowest.source).grid

    def of(self, extent: Extent) -> SheetElement | None:
        """Return it for what a map shows; None where there is nothing to show."""
        if self._word == "none":
            return None
        place = None if extent.ground is None else extent.ground.lonlat
        if self._word not in INSETS or (self._word == "auto" and _share(extent) < _PART):
            return self._overview(extent)
        if self._word == "globe" and place is None:
            raise GridMismatch("inset globe: the map has no longitude and latitude")
        return None if place is None else Globe(place)

    def _overview(self, extent: Extent) -> Overview:
        if self._picture is None and self._word in INSETS:
            self._picture = draw_layers([self._lowest], size=_DOTS)
        elif self._picture is None:
            with open_raster(self._word) as raster:
                self._picture = draw_layers([Layer(raster)], size=_DOTS)
                self._grid = raster.grid
        return overview(self._picture, self._grid, extent)


def _share(extent: Extent) -> float:
    """Return the share of its raster that the map shows."""
    x_min, y_min, x_max, y_max = extent.bounds
    first, low, last, high = extent.base.bounds
    across = max(0.0, min(x_max, last) - max(x_min, first)) / (last - first)
    return across * max(0.0, min(y_max, high) - max(y_min, low)) / (high - low)


def overview(picture: Picture, grid: Grid, extent: Extent) -> Overview:
    """Return the picture of a raster on its grid, with a map's outline on it.

    Raises GridMismatch where they do not meet.
    """
    x_min, y_min, x_max, y_max = extent.bounds
    steps = np.linspace(0, 1, 9)[:-1]
    x = np.concatenate([x_min + steps * (x_max - x_min), np.full(8, x_max),
                        x_max - steps * (x_max - x_min), np.full(8, x_min)])  # fmt: skip
    y = np.concatenate([np.full(8, y_max), y_max - steps * (y_max - y_min),
                        np.full(8, y_min), y_min + steps * (y_max - y_min)])  # fmt: skip
    if extent.base.crs_text != grid.crs_text:
        x, y = transformer(extent.base, grid).transform(x, y)
    columns, rows = picture.grid.from_map(x, y)
    high, wide = picture.rgba.shape[:2]
    across, down = columns / wide, rows / high
    if not (np.isfinite(across).all() and np.isfinite(down).all()) or (
        across.max() <= 0 or across.min() >= 1 or down.max() <= 0 or down.min() >= 1
    ):
        raise GridMismatch(f"inset {picture.source}: the map does not lie on it")
    outline = tuple(zip(across.tolist(), down.tolist(), strict=True))
    return Overview(picture.rgba, outline, _sides(grid, wide / high))


def _sides(grid: Grid, otherwise: float) -> float:
    """Return a grid's width by its height on the ground."""
    x_min, y_min, x_max, y_max = grid.bounds
    try:
        ground = ground_at(grid, (x_min + x_max) / 2, (y_min + y_max) / 2)
    except GridMismatch:
        return otherwise
    return (x_max - x_min) * ground.across / ((y_max - y_min) * ground.up)


def own_picture(path: Any) -> OwnPicture:
    """Return the picture of a file. Raises LookError for what is none."""
    from PIL import Image

    name = path_text(path)
    with ReadingAs(name, LookError, "a picture"), Image.open(name) as image:
        return OwnPicture(np.asarray(image.convert("RGBA")))
