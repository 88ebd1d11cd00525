"""Pictures of volumes: a slice, three planes through a point, a montage; maps laid over anatomy.

Limits are found once, from the whole volume, so that every slice of it is shown alike. Letters at
the edges say which side of the patient lies there.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.clusters import OfSize
from spectrane.analysis.thresholds import Kept, Threshold
from spectrane.display.drawing import Rgba
from spectrane.display.layers import AnyLayer, Layer, check_opacity, stacked
from spectrane.display.picture import Picture
from spectrane.display.proposals import settled_colormap
from spectrane.display.render import shadings_of
from spectrane.display.shading import Scale
from spectrane.kernels.blending import MODES
from spectrane.model.band import BandName, find_bands
from spectrane.model.errors import GridMismatch, LookError, nearest
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.patient import aligned_axes, reach
from spectrane.model.source import Source, source_of
from spectrane.model.window import whole
from spectrane.spatial.mosaics.inputs import called
from spectrane.spatial.slicing import PLANES, Plane, cut

_DARK, _LIGHT = (12, 14, 16, 255), (235, 235, 225, 255)
_GAP = 6
_EMPTY = 0.002
"""A slice of which less than this is above the lower limit counts as empty."""


@dataclass(frozen=True)
class VolumeLayer:
    """A volume to be looked at, and how: its look, opacity, and where it is shown at all.

    ``frame`` is shown; ``threshold`` (an expression over its frames, or a ``Threshold``) keeps what
    passes, tested on the volume's own voxels; ``least`` leaves out smaller groups, in voxels.
    """

    source: Any  # a Source from then on
    look: Look | None = None
    opacity: float = 1.0
    visible: bool = True
    threshold: Threshold | str | None = None
    frame: BandName = 1
    least: float = 1
    name: str | None = None
    mode: str = "normal"

    def __post_init__(self) -> None:
        """Check numbers and names."""
        object.__setattr__(self, "source", source_of(self.source))
        check_opacity(self.opacity)
        if self.mode not in MODES:
            raise LookError(f"mode {self.mode!r}{nearest(self.mode, MODES)}")
        if len(self.source.shape) != 3:
            raise GridMismatch(f"{called(self.source)}: is no volume; slices are cut from volumes")

    @property
    def title(self) -> str:
        """The layer's name, or its file's."""
        return self.name or called(self.source)


@dataclass(frozen=True)
class _Ready:
    """A volume layer with its limits found and its test made."""

    layer: VolumeLayer
    source: Source
    frames: list[int]
    look: Look
    scales: tuple[Scale, ...]


def tested(layer: VolumeLayer) -> Source:
    """Return a layer's volume with what its threshold hides made invalid."""
    source: Source = layer.source
    if layer.threshold is None:
        return source
    kept = Kept(source, layer.threshold)
    return kept if layer.least <= 1 else OfSize(kept, least=layer.least)


def prepared(layers: Sequence[VolumeLayer]) -> list[_Ready]:
    """Find limits, colour maps and tests once for all slices."""
    return [_prepared(one) for one in layers]


def _prepared(layer: VolumeLayer) -> _Ready:
    source: Source = layer.source
    colored = [band.role for band in source.bands[:3]] == ["red", "green", "blue"]
    frames = [0, 1, 2] if colored else find_bands(source.bands, layer.frame)
    look = layer.look or source.look or Look()
    look, _ = settled_colormap(source, replace(look, channels=None), frames)
    kept = tested(layer)
    look = replace(look, channels=None)
    if look.classes:
        return _Ready(layer, kept, frames, look, ())
    shadings = shadings_of(source, look, frames, whole(source.shape))
    scales = tuple(one.scale for one in shadings)
    limits = [f"fixed:{scale.low!r},{scale.high!r}" for scale in scales]
    return _Ready(layer, kept, frames, replace(look, limits=limits), scales)


def _flat(ready: Sequence[_Ready], plane: str, where: dict[str, Any]) -> list[AnyLayer]:
    """Return a slice of each volume at the same millimetres as a layer."""
    first = cut(ready[0].source, plane, frames=ready[0].frames, **where)
    found: list[AnyLayer] = []
    for number, one in enumerate(ready):
        own = dict(where)
        if number and own.pop("index", None) is not None:
            own["at"] = _depth(ready[0].source, plane, where["index"])
        try:
            made = first if not number else cut(one.source, plane, frames=one.frames, **own)
        except GridMismatch:
            continue  # this one does not reach so far
        found.append(Layer(made, one.look, one.layer.opacity, one.layer.visible,
                           name=one.layer.title, mode=one.layer.mode))  # fmt: skip
    return found


def _depth(source: Source, plane: str, index: int) -> float:
    """Return the millimetre of a stored plane's middle."""
    across = PLANES[plane][0]
    middle = [(n - 1) / 2 for n in source.shape]
    middle[aligned_axes(source.grid)[across]] = index
    return float((source.grid.matrix[:3, :3] @ middle + source.grid.matrix[:3, 3])[across])


def _drawn(ready: Sequence[_Ready], plane: str, scale: float, where: dict[str, Any]) -> Any:
    """Draw a slice at ``scale`` pixels per millimetre, in true proportion."""
    layers = _flat(ready, plane, where)
    grid: Grid = layers[0].source.grid  # type: ignore[union-attr]
    size = tuple(max(1, round(n * side * scale)) for n, side in
                 zip(grid.shape, grid.pixel_size[::-1], strict=True))  # fmt: skip
    return stacked(layers, grid=grid.resized(size), tell=False)


def slice_picture(
    layers: Sequence[VolumeLayer], plane: str = "axial", *, at: float | None = None,
    index: int | None = None, side: str = "radiological", slab: float = 0.0,
    project: str = "maximum", size: tuple[int, int] | None = None, labels: bool = True,
) -> Picture:  # fmt: skip
    """Return one slice through volumes at the same millimetres, the first the lowest.

    ``size`` (rows, columns) bounds it; millimetres are square. See ``spatial.slicing.cut``.
    """
    ready = prepared(layers)
    where = {"at": at, "index": index, "side": side, "slab": slab, "project": project}
    where = {name: value for name, value in where.items() if value is not None}
    stack = _drawn(ready, plane, _scale(ready, [plane], size or (800, 1280)), where)
    rgba = _on_dark(stack.blended())
    if labels:
        _write_letters(rgba, Plane.of(plane, side), _caption(plane, stack.layers[0]))
    return _picture(rgba, stack.grid, ready)


def three_planes(
    layers: Sequence[VolumeLayer], point: Sequence[float] | None = None, *,
    side: str = "radiological", size: tuple[int, int] = (800, 1280), crosshair: bool = True,
) -> Picture:  # fmt: skip
    """Return axial, coronal and sagittal slices through one point: x, y, z in mm, or the middle."""
    ready = prepared(layers)
    low, high = reach(ready[0].source.grid)
    middle = (low + high) / 2 if point is None else np.asarray(point, float)
    if middle.shape != (3,):
        raise LookError(f"point {point!r}: expected x, y, z in mm")
    names = list(PLANES)
    each = (size[0], (size[1] - 2 * _GAP) // 3)
    scale = min(_scale(ready, [name], each) for name in names)
    panels = []
    for name in names:
        stack = _drawn(ready, name, scale, {"at": float(middle[PLANES[name][0]]), "side": side})
        rgba = _on_dark(stack.blended())
        plane = Plane.of(name, side)
        if crosshair:
            _cross(rgba, stack.grid, middle[plane.columns[0]], middle[plane.rows[0]])
        _write_letters(rgba, plane, f"{name} {middle[plane.across]:.1f} mm")
        panels.append(rgba)
    return _picture(_row(panels), Grid(_row(panels).shape[:2]), ready)


def montage(
    layers: Sequence[VolumeLayer], plane: str = "axial", *, count: int = 12,
    span: tuple[float, float] | None = None, side: str = "radiological",
    size: tuple[int, int] = (800, 1280),
) -> Picture:  # fmt: skip
    """Return ``count`` slices in rows, evenly over ``span`` (mm) or the part that is not empty."""
    if not 1 <= count <= 400:
        raise LookError(f"montage of {count} slices: expected 1 to 400")
    ready = prepared(layers)
    low, high = span or filled_span(ready[0], plane)
    if not low < high:
        raise LookError(f"montage from {low:g} to {high:g} mm: expected low < high")
    step = (high - low) / count
    # From the head down, or the right: as slices are hung.
    places = [high - (k + 0.5) * step for k in range(count)]
    across, down = _grid_of(ready, plane, count, size)
    each = ((size[0] - (down - 1) * _GAP) // down, (size[1] - (across - 1) * _GAP) // across)
    scale = _scale(ready, [plane], each)
    panels = []
    for place in places:
        rgba = _on_dark(_drawn(ready, plane, scale, {"at": place, "side": side}).blended())
        _write_letters(rgba, Plane.of(plane, side), f"{place:.1f} mm", edges=rgba.shape[1] > 120)
        panels.append(rgba)
    rows = [_row(panels[k : k + across]) for k in range(0, count, across)]
    whole_picture = _column(rows)
    return _picture(whole_picture, Grid(whole_picture.shape[:2]), ready)


def filled_span(ready: Any, plane: str) -> tuple[float, float]:
    """Return from where to where a volume is not empty across a plane, in mm."""
    low, high = reach(ready.source.grid)
    across = PLANES[plane][0]
    floor = min(ready.scales[0].low, ready.scales[0].high) if ready.scales else 0.0
    band = ready.source.bands[ready.frames[0]]
    seen = []
    for at in np.linspace(low[across], high[across], 66)[1:-1]:
        made = cut(ready.source, plane, at=float(at), frames=ready.frames[:1])
        size = tuple(min(64, n) for n in made.shape)
        pixels = made.read([0], whole(made.shape), size, "nearest")
        values = pixels.values[0] * band.scale + band.offset
        if (
            np.broadcast_to(pixels.valid, pixels.values.shape)[0] & (values > floor)
        ).mean() > _EMPTY:
            seen.append(float(at))
    if not seen:
        return float(low[across]), float(high[across])
    step = (high[across] - low[across]) / 65
    return max(float(low[across]), min(seen) - step / 2), min(
        float(high[across]), max(seen) + step / 2)  # fmt: skip


def _scale(ready: Sequence[_Ready], planes: Sequence[str], size: tuple[int, int]) -> float:
    """Return the pixels per millimetre at which slices fit into a size."""
    low, high = reach(ready[0].source.grid)
    extent = high - low
    found = []
    for name in planes:
        _, along, down = PLANES[name]
        found.append(min(size[1] / extent[along], size[0] / extent[down]))
    return float(min(found))


def _grid_of(
    ready: Sequence[_Ready], plane: str, count: int, size: tuple[int, int]
) -> tuple[int, int]:
    """Return how many slices stand side by side and below one another, so that they are largest."""
    best, chosen = 0.0, (1, count)
    for across in range(1, count + 1):
        down = -(-count // across)
        scale = _scale(ready, [plane], (size[0] // down, size[1] // across))
        if scale > best:
            best, chosen = scale, (across, down)
    return chosen


def _on_dark(rgba: Rgba) -> Rgba:
    """Lay a picture on black: what is clear must not look like bright tissue."""
    alpha = rgba[..., 3:].astype(np.float32) / 255
    dark = np.array(_DARK, np.float32)
    out = np.floor(rgba * alpha + dark * (1 - alpha) + 0.5).astype(np.uint8)
    out[..., 3] = 255
    return out


def _caption(plane: str, drawn: Any) -> str:
    said = drawn.layer.source.metadata["slice"]
    place = f"{said['at']:.1f} mm" if "at" in said else f"plane {said['index']}"
    slab = f", slab {said['slab']:g} mm" if said.get("slab") else ""
    return f"{plane} {place}{slab}"


def _write_letters(rgba: Rgba, plane: Plane, caption: str, *, edges: bool = True) -> None:
    from PIL import Image, ImageDraw, ImageFont

    image = Image.fromarray(rgba.copy())
    pen = ImageDraw.Draw(image)
    rows, columns = rgba.shape[:2]
    large = ImageFont.load_default(max(11, min(18, columns // 24)))
    small = ImageFont.load_default(max(10, min(15, columns // 26)))
    rim = {"stroke_width": 2, "stroke_fill": _DARK}
    if edges:
        places = {
            "left": (5, rows // 2, "lm"), "right": (columns - 5, rows // 2, "rm"),
            "top": (columns // 2, 4, "ma"), "bottom": (columns // 2, rows - 4, "md"),
        }  # fmt: skip
        for side, text in plane.labels.items():
            x, y, anchor = places[side]
            pen.text((x, y), text, fill=_LIGHT, font=large, anchor=anchor, **rim)
    pen.text((5, 4), caption, fill=_LIGHT, font=small, anchor="la", **rim)
    rgba[...] = np.asarray(image)


def _cross(rgba: Rgba, grid: Grid, x: float, y: float) -> None:
    """Draw thin lines through a point, open in the middle."""
    column, row = grid.position(x=x, y=y)
    r, c = int(np.floor(row)), int(np.floor(column))
    gap = max(4, min(rgba.shape[:2]) // 40)
    color = np.array((255, 214, 64, 255), np.uint8)
    if 0 <= r < rgba.shape[0]:
        rgba[r, : max(0, c - gap)] = rgba[r, max(0, c + gap + 1) :] = color
    if 0 <= c < rgba.shape[1]:
        rgba[: max(0, r - gap), c] = rgba[max(0, r + gap + 1) :, c] = color


def _row(panels: Sequence[Rgba]) -> Rgba:
    return _joined(panels, axis=1)


def _column(rows: Sequence[Rgba]) -> Rgba:
    return _joined(rows, axis=0)


def _joined(panels: Sequence[Rgba], axis: int) -> NDArray[np.uint8]:
    """Set panels beside or below one another, with gaps, on the dark ground."""
    other = 1 - axis
    length = max(one.shape[other] for one in panels)
    total = sum(one.shape[axis] for one in panels) + _GAP * (len(panels) - 1)
    shape = (length, total) if axis == 1 else (total, length)
    out = np.empty((*shape, 4), np.uint8)
    out[...] = _DARK
    place = 0
    for one in panels:
        rows, columns = one.shape[:2]
        if axis == 1:
            out[:rows, place : place + columns] = one
        else:
            out[place : place + rows, :columns] = one
        place += one.shape[axis] + _GAP
    return out


def _picture(rgba: Rgba, grid: Grid, ready: Sequence[_Ready]) -> Picture:
    scales = tuple(scale for one in ready for scale in one.scales)
    notes = tuple(
        f"Layer {k}: {one.layer.title}, frame {one.source.bands[one.frames[0]].name}"
        + (f", where {one.layer.threshold}" if one.layer.threshold is not None else "")
        for k, one in enumerate(ready, 1)
    )
    names = ", ".join(one.layer.title for one in ready)
    return Picture(
        rgba, grid, scales, names, lambda: rgba.astype(np.uint16) * np.uint16(257), notes
    )
