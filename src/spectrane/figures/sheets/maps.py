"""Maps drawn into frames on paper: rasters as a picture, outlines above them as lines."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from matplotlib.patches import PathPatch
from matplotlib.path import Path
from matplotlib.patheffects import withStroke

from spectrane.display.keys import Key, Shown
from spectrane.display.layers import AnyLayer, Stack, as_layer, stacked
from spectrane.display.outlines import Outline, labels_of, placed_parts
from spectrane.figures.keys import STEPS
from spectrane.figures.sheets.elements import TEXT
from spectrane.figures.sheets.framing import Framed
from spectrane.figures.sheets.legend import ink, line_width
from spectrane.figures.sheets.pen import Box, Pen
from spectrane.kernels.records import record
from spectrane.model.colors import parse_color
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid


@record(frozen=True)
class DrawnMap:
    """A map's rasters as one picture, the outlines above them, and its keys."""

    title: str
    stack: Stack
    outlines: tuple[Outline, ...]
    keys: tuple[Key, ...]
    """Those of its rasters, the uppermost first; of several, ramps say which."""

    def shown_outlines(self) -> list[Outline]:
        """Return all outlines that are seen, drawn as lines or not."""
        within = [one.layer for one in self.stack.layers if isinstance(one.layer, Outline)]
        return [one for one in (*within, *self.outlines) if one.visible]


def maps_of(layers: object, separate: bool) -> list[list[AnyLayer]]:
    """Return the layers of each map: all on one, or each by itself; a list is one map's layers.

    What is no list is one layer.
    """
    listed: list[Any] = layers if isinstance(layers, list) else [layers]
    parts = listed if separate else [listed]
    found = []
    for part in parts:
        found.append([as_layer(one) for one in (part if isinstance(part, list) else [part])])
    if not found or not all(found):
        raise LookError("sheet: expected at least one raster")
    return found


def drawn_map(layers: Sequence[AnyLayer], grid: Grid, *, tell: bool) -> DrawnMap:
    """Draw the layers of a map: outlines below a raster are part of the picture."""
    last = max((k for k, one in enumerate(layers) if not isinstance(one, Outline)), default=-1)
    above = tuple(one for one in layers[last + 1 :] if isinstance(one, Outline) and one.visible)
    stack = stacked(layers[: last + 1], grid=grid, tell=tell)
    top = next(one for one in reversed(stack.layers) if not isinstance(one.layer, Outline))
    return DrawnMap(top.title, stack, tuple(one.ready() for one in above), tuple(_keys(stack)))


def _keys(stack: Stack) -> Iterator[Key]:
    visible = [one for one in stack.layers if one.layer.visible and one.planned is not None]
    for one in reversed(visible):
        assert one.planned is not None
        key = Shown(one.title, one.planned.plan, rgba=one.rgba).key(STEPS)
        if key is None:
            continue
        alone = key.colors is None or len(visible) == 1 or key.title.startswith(one.title)
        yield key if alone else replace(key, title=f"{one.title}: {key.title}")


def draw_map(pen: Pen, frame: Framed, drawn: DrawnMap) -> None:
    """Draw a map into its frame."""
    axes = pen.image(frame.box, drawn.stack.blended())
    for outline in drawn.outlines:
        _draw_lines(pen, axes, outline, frame.box, drawn.stack.grid)


def _draw_lines(pen: Pen, axes: Any, outline: Outline, box: Box, grid: Grid) -> None:
    """Draw an outline as lines that no scale makes coarse, over the picture's pixels."""
    parts = list(placed_parts(outline, grid))
    edge, width = ink(outline.color, outline.opacity), line_width(outline)
    for kind, points, holes, _ in parts:
        if kind == "point":
            axes.plot(*points[0], marker="o", markersize=max(2.5, 3 * width), color=edge,
                      markeredgewidth=0, linestyle="none", scalex=False, scaley=False)  # fmt: skip
            continue
        closed = kind == "polygon"
        path = _path([points, *holes], closed=closed)
        filled = closed and outline.fill is not None
        face = ink(str(outline.fill), outline.opacity) if filled else "none"
        axes.add_patch(PathPatch(path, facecolor=face, edgecolor=edge if width else "none",
                                 linewidth=width, joinstyle="round"))  # fmt: skip
    rows, columns = grid.shape
    per_mm = columns / box.width
    for text, points in labels_of(parts):
        x, y = np.clip(points, 0, (columns, rows)).mean(axis=0)
        half = (pen.length(text, TEXT, "bold") / 2 + 1) * per_mm
        x = min(max(x, half), columns - half)  # what is written at an edge stays on the map
        red, green, blue, _ = parse_color(outline.color)
        rim = "#101418" if 0.299 * red + 0.587 * green + 0.114 * blue > 110 else "white"
        written = axes.text(x, y, text, color=edge, fontsize=TEXT, ha="center", weight="bold",
                            va="bottom" if len(points) == 1 else "center", parse_math=False,
                            clip_on=True)  # fmt: skip
        written.set_path_effects([withStroke(linewidth=1.6, foreground=rim)])


def _path(rings: Sequence[Any], *, closed: bool) -> Path:
    """Return rings as one path, so that holes stay open."""
    corners, codes = [], []
    for ring in rings:
        ring = np.vstack([ring, ring[:1]]) if closed else np.asarray(ring)
        corners.append(ring)
        end = Path.CLOSEPOLY if closed else Path.LINETO
        codes += [Path.MOVETO, *[Path.LINETO] * (len(ring) - 2), *([end] if len(ring) > 1 else [])]
    return Path(np.vstack(corners), codes)
