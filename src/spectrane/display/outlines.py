"""Vector shapes drawn over a picture: outlines, lines and points, with labels."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.model.colors import parse_color
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.spatial.shapes import LONLAT, brought, features_of, loaded, parts_of, way_to

_FINER = 4
"""Lines are drawn this many times as large, and made smaller: soft edges at any angle."""
_CURVED = 0.25
_FAR = 1e6
"""Positions further off the picture, in its pixels, are brought this near."""
_MOST = 64 << 20
F64 = NDArray[np.float64]


@dataclass(frozen=True)
class Outline:
    """GeoJSON to be drawn: its ``color``, line ``width`` in picture pixels, and what labels it.

    ``shape`` is a mapping, a path or a shapely geometry, in ``crs`` or what it says itself.
    ``label`` names the property that is written at each feature; True takes its name. ``fill`` is
    a colour for the inside of polygons.
    """

    shape: Any
    color: str = "#ffd23f"
    width: float = 2.0
    label: str | bool | None = None
    fill: str | None = None
    crs: str | None = None
    opacity: float = 1.0
    visible: bool = True
    name: str | None = None

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
        plain = isinstance(self.shape, str | os.PathLike)
        return self.name or (os.path.basename(os.fspath(self.shape)) if plain else "outlines")


def draw_outline(outline: Outline, grid: Grid) -> Rgba:
    """Return (rows, columns, 4) uint8 with a shape's lines on a grid, transparent elsewhere."""
    from PIL import Image, ImageDraw

    rows, columns = grid.shape
    finer = _FINER if rows * columns * _FINER**2 <= _MOST else 1
    parts = list(_placed(outline, grid))
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
    from PIL import Image, ImageDraw, ImageFont

    image = Image.fromarray(rgba.copy())
    pen = ImageDraw.Draw(image)
    red, green, blue, _ = parse_color(outline.color)
    bright = 0.299 * red + 0.587 * green + 0.114 * blue > 110
    font = ImageFont.load_default(max(12, round(6 * outline.width)))
    for text, points in _labels(parts):
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


def _labels(parts: list[Any]) -> Iterator[tuple[str, F64]]:
    """Yield each feature's label once, at its largest part."""
    best: dict[int, tuple[float, str, F64]] = {}
    for number, (kind, points, _, (feature, text)) in enumerate(parts):
        size = float(np.prod(np.ptp(points, axis=0))) if kind != "point" else 0.0
        key = feature if feature >= 0 else number
        if text and (key not in best or size > best[key][0]):
            best[key] = (size, text, points)
    for _, text, points in best.values():
        yield text, points


def _placed(outline: Outline, grid: Grid) -> Iterator[tuple[str, F64, list[F64], tuple[int, str]]]:
    """Yield (kind, picture positions, holes, (feature, label)) of every part of a shape."""
    lonlat, _ = loaded(outline.shape)
    way = way_to(grid, outline.crs or (LONLAT if lonlat else None))
    inverse = np.asarray(np.linalg.inv(grid.matrix), np.float64)

    def place(points: Any, least: int) -> F64:
        array = _positions(outline, points, least)
        placed = brought(array, way, inverse, closed=least > 2, curved=_CURVED)
        return np.clip(placed, -_FAR, _FAR)

    for number, (label, geometry) in enumerate(_features(outline)):
        for kind, coordinates in _parts(geometry):
            if kind == "point":
                yield kind, place([coordinates], 1), [], (number, label)
            elif kind == "line":
                yield kind, place(coordinates, 2), [], (number, label)
            else:
                held = coordinates if isinstance(coordinates, list | tuple) else ()
                rings = [place(ring, 3) for ring in held]
                if rings:
                    yield kind, rings[0], rings[1:], (number, label)


def _positions(outline: Outline, points: Any, least: int) -> F64:
    try:
        array = np.array([[float(v) for v in point[:2]] for point in points], np.float64)
        if array.ndim != 2 or array.shape[1] != 2 or len(array) < least:
            raise ValueError
    except (TypeError, ValueError, OverflowError, KeyError) as error:
        raise LookError(
            f"{outline.title}: expected {least} or more positions, each two numbers"
        ) from error
    if not np.isfinite(array).all():
        raise LookError(f"{outline.title}: a position is not finite")
    return array


def _features(outline: Outline) -> list[tuple[str, Any]]:
    _, found = loaded(outline.shape)
    if outline.label in (None, False, True):
        named = features_of(outline.shape)
        return [(name if outline.label else "", geometry) for name, geometry in named]
    listed = found.get("features") if found.get("type") == "FeatureCollection" else [found]
    result = []
    for feature in listed or []:
        said = feature.get("properties") if isinstance(feature, Mapping) else None
        said = said if isinstance(said, Mapping) else {}
        if outline.label not in said:
            known = ", ".join(map(str, said)) or "none"
            raise LookError(
                f"{outline.title}: no feature property {outline.label!r}; there are {known}"
            )
        result.append((str(said[outline.label]), feature.get("geometry")))
    return result


def _parts(geometry: Any) -> Iterator[tuple[str, Any]]:
    """Yield the points, lines and polygons of a GeoJSON geometry."""
    if not isinstance(geometry, Mapping):
        return
    kind, held = geometry.get("type"), geometry.get("coordinates")
    single = {"Point": "point", "LineString": "line", "Polygon": "polygon"}
    if kind in single:
        yield single[str(kind)], held
    elif kind in ("MultiPoint", "MultiLineString", "MultiPolygon"):
        for one in held if isinstance(held, list | tuple) else ():
            yield single[str(kind)[5:]], one
    elif kind == "GeometryCollection":
        for one in parts_of(geometry):
            yield from _parts(one)
