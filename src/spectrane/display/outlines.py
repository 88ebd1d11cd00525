"""Vector shapes drawn over a picture: outlines, lines and points, with labels."""

from __future__ import annotations

import os
from collections.abc import Iterator
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.display.lettering import font_of_height
from spectrane.kernels.records import record
from spectrane.model.asking import ShapeLike
from spectrane.model.colors import parse_color
from spectrane.model.errors import LookError
from spectrane.model.grid import CrsLike, Grid
from spectrane.model.printing import short_name
from spectrane.spatial.onto_pixels import Way
from spectrane.spatial.shapes import Feature, Shapes, shapes_of

_FINER = 4
"""Lines are drawn this many times as large, and made smaller: soft edges at any angle."""
_CURVED = 0.25
_FAR = 1e6
"""Positions further off the picture, in its pixels, are brought this near."""
_MOST = 64 << 20
F64 = NDArray[np.float64]


class LayerBase:
    """Something that is laid on others: a ``Layer``, an ``Outline`` or a ``VolumeLayer``."""

    @property
    def title(self) -> str:
        """The layer's name, or its file's."""
        raise NotImplementedError


@record(frozen=True)
class Outline(LayerBase):
    """Shapes to be drawn: their ``color``, line ``width`` in picture pixels, and what labels them.

    ``shape`` is GeoJSON (a mapping or a path), the path of a GeoPackage (``layer`` names one of its
    layers), a shapely geometry, or what ``read_shapes`` returns, in ``crs`` or what it says itself.
    ``label`` names the property that is written at each feature that has it; True takes its name.
    ``fill`` is a colour for the inside of polygons. Raises LookError for a colour or a number that
    is none; the shape is read
    when it is drawn.

    >>> Outline((0, 0, 9, 9), "#ff0000", name="lease").title
    'lease'
    """

    shape: ShapeLike
    color: str = "#ffd23f"
    width: float = 2.0
    label: str | bool | None = None
    fill: str | None = None
    crs: CrsLike | None = None
    opacity: float = 1.0
    visible: bool = True
    name: str | None = None
    layer: str | None = None

    def __post_init__(self) -> None:
        """Check colours and numbers."""
        parse_color(self.color)
        if self.fill is not None:
            parse_color(self.fill)
        if not 0 <= self.width <= 200:
            raise LookError(f"width {self.width}: expected picture pixels, 0 to 200")
        if isinstance(self.opacity, bool) or not 0 <= self.opacity <= 1:
            raise LookError(f"opacity {self.opacity!r}: expected 0 (clear) to 1 (opaque)")

    @property
    def title(self) -> str:
        """The layer's name, or its file's."""
        if self.name or not isinstance(self.shape, str | os.PathLike):
            return self.name or "outlines"
        return short_name(os.fspath(self.shape))

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The shapes as GeoJSON, in their own coordinates."""
        shape: Any = self.ready().shape
        found: dict[str, Any] = shape.__geo_interface__
        return found

    def ready(self) -> Outline:
        """Return the outline with its shape read: to be drawn many times, or on another machine.

        Raises MissingFile, AccessError or LookError for a shape that cannot be read.

        >>> Outline((0, 0, 9, 9)).ready().shape
        <Shapes the bounds: 1 features in the raster's own system>
        """
        shapes = shapes_of(self.shape, crs=self.crs, layer=self.layer, option="outline_crs")
        return replace(self, shape=shapes, crs=None, layer=None, name=self.title)


def draw_outline(outline: Outline, grid: Grid) -> Rgba:
    """Return (rows, columns, 4) uint8 with a shape's lines on a grid, transparent elsewhere."""
    from PIL import Image, ImageDraw

    rows, columns = grid.shape
    finer = _FINER if rows * columns * _FINER**2 <= _MOST else 1
    parts = list(placed_parts(outline, grid))
    line, inner = (Image.new("L", (columns * finer, rows * finer)) for _ in range(2))
    pen, brush = ImageDraw.Draw(line), ImageDraw.Draw(inner)
    width = max(1, round(outline.width * finer)) if outline.width else 0
    for kind, points, holes, _ in parts:
        path = [tuple(p) for p in (points * finer).tolist()]
        if kind == "point":
            reach = max(outline.width, 1.5) * finer * 1.5
            x, y = path[0]
            pen.ellipse((x - reach, y - reach, x + reach, y + reach), fill=255)
            continue
        if kind == "polygon" and outline.fill is not None and len(path) > 2:
            brush.polygon(path, fill=255)
            for hole in holes:
                brush.polygon([tuple(p) for p in (hole * finer).tolist()], fill=0)
        rings = [path] + [[tuple(p) for p in (hole * finer).tolist()] for hole in holes]
        for ring in rings:
            closed = [*ring, ring[0], ring[1]] if kind == "polygon" else ring
            if width and len(closed) > 1:
                pen.line(closed, fill=255, width=width, joint="curve")
    out = _painted(inner, outline.fill, (columns, rows)) if outline.fill else None
    drawn = _over(out, _painted(line, outline.color, (columns, rows)))
    return _labelled(drawn, parts, outline) if outline.label else drawn


def _painted(mask: Any, color: str, size: tuple[int, int]) -> Rgba:
    from PIL import Image

    red, green, blue, alpha = parse_color(color)
    cover = np.asarray(mask.resize(size, Image.Resampling.BOX) if mask.size != size else mask)
    out = np.empty((*cover.shape, 4), np.uint8)
    out[..., :3] = red, green, blue
    out[..., 3] = (cover.astype(np.uint16) * alpha + 127) // 255
    return out


def _over(below: Rgba | None, top: Rgba) -> Rgba:
    if below is None:
        return top
    from spectrane.kernels.blending import blended

    out = np.empty_like(top)
    blended([(below, 1.0, "normal"), (top, 1.0, "normal")], out, slice(0, len(out)), 0)
    return out


def _labelled(rgba: Rgba, parts: list[Any], outline: Outline) -> Rgba:
    """Write each feature's label at its middle, in the line's colour with a dark or light rim."""
    from PIL import Image, ImageDraw

    image = Image.fromarray(rgba.copy())
    pen = ImageDraw.Draw(image)
    red, green, blue, _ = parse_color(outline.color)
    bright = 0.299 * red + 0.587 * green + 0.114 * blue > 110
    font = font_of_height(max(12, round(6 * outline.width)))
    for text, points in labels_of(parts):
        inside = np.clip(points, 0, (image.width, image.height))
        x, y = inside.mean(axis=0).tolist()
        half = font.getlength(text) / 2 + 3
        x = min(max(x, half), image.width - half)
        if len(points) == 1:
            y -= 3 * max(outline.width, 1.5) + 8
        pen.text(
            (x, y),
            text,
            fill=(red, green, blue, 255),
            font=font,
            anchor="mm",
            stroke_width=2,
            stroke_fill=(0, 0, 0, 210) if bright else (255, 255, 255, 210),
        )
    return np.asarray(image)


def labels_of(parts: list[Any]) -> Iterator[tuple[str, F64]]:
    """Yield each feature's label once, at its largest part."""
    best: dict[int, tuple[float, str, F64]] = {}
    for number, (kind, points, _, (feature, text)) in enumerate(parts):
        size = float(np.prod(np.ptp(points, axis=0))) if kind != "point" else 0.0
        key = feature if feature >= 0 else number
        if text and (key not in best or size > best[key][0]):
            best[key] = (size, text, points)
    for _, text, points in best.values():
        yield text, points


def placed_parts(
    outline: Outline, grid: Grid
) -> Iterator[tuple[str, F64, list[F64], tuple[int, str]]]:
    """Yield (kind, picture positions, holes, (feature, label)) of every part of a shape."""
    shapes = outline.ready().shape
    assert isinstance(shapes, Shapes)
    way = Way(shapes, grid, curved=_CURVED)
    labels = _texts(outline, shapes)
    for number, (feature, label) in enumerate(zip(shapes.features, labels, strict=True)):
        for part in shapes.parts(feature):
            rings = [[np.clip(copy, -_FAR, _FAR)
                      for copy in way.pixels(ring, closed=part.kind == "polygon")]
                     for ring in part.rings]  # fmt: skip
            holes = [copy for ring in rings[1:] for copy in ring]
            for copy in rings[0]:
                yield part.kind, copy, holes, (number, label)


def _texts(outline: Outline, shapes: Shapes) -> list[str]:
    """Return the label of each feature; empty where it has none.

    Raises LookError where no feature has the property that was asked for.
    """
    if outline.label in (None, False, True):
        return [feature.name if outline.label else "" for feature in shapes.features]
    texts = [_text(feature, str(outline.label)) for feature in shapes.features]
    if not any(outline.label in feature.properties for feature in shapes.features):
        known = dict.fromkeys(str(key) for feature in shapes.features for key in feature.properties)
        raise LookError(
            f"{outline.title}: no feature property {outline.label!r}; there are "
            f"{', '.join(known) or 'none'}"
        )
    return texts


def _text(feature: Feature, label: str) -> str:
    value = feature.properties.get(label)
    return "" if value is None else str(value)
