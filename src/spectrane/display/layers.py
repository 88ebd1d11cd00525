"""Layers bottom to top: each with its look, opacity and blend mode, on one grid."""

from __future__ import annotations

import warnings
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any, TypeAlias

import numpy as np

from spectrane.analysis.expressions import Computed
from spectrane.display.drawing import Rgba
from spectrane.display.onto import Drawn, covers, drawn_onto
from spectrane.display.outlines import Outline, draw_outline
from spectrane.display.picture import Picture
from spectrane.display.render import settled, shadings_of
from spectrane.display.shading import Scale
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels.blending import MODES, blended
from spectrane.model.errors import DataWarning, GridMismatch, LookError, nearest
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.source import Source, check_answer, flat_source_of, source_of
from spectrane.model.view import View, fitted
from spectrane.model.window import whole
from spectrane.spatial.masks import Masked, Truth
from spectrane.spatial.mosaics.inputs import called
from spectrane.spatial.turned import upright


@dataclass(frozen=True)
class Layer:
    """A raster (anything that has a source) to be laid over others, and how.

    ``opacity`` is 0...1; ``mode`` ``normal``, ``multiply`` (for relief shading), ``screen`` or
    ``hue`` (colour from this layer, lightness from below). ``threshold`` is an expression over the
    raster's bands; where it is not true, the layer is transparent. ``mask`` a raster of true and
    false. ``base`` layers are alternatives of which a page shows one. Of a volume, this makes a
    ``VolumeLayer``.
    """

    source: Any  # a Source from then on
    look: Look | None = None
    opacity: float = 1.0
    visible: bool = True
    threshold: str | None = None
    name: str | None = None
    mode: str = "normal"
    mask: Any = None
    base: bool = False

    def __new__(cls, source: Any = None, *given: Any, **named: Any) -> Any:
        """Return a layer of a raster, or of a volume one that is cut before it is laid."""
        found = getattr(source, "_source", source)
        if isinstance(found, Source) and len(found.shape) == 3:
            from spectrane.display.volume_layers import VolumeLayer

            return VolumeLayer(source, *given, **named)
        return super().__new__(cls)

    def __post_init__(self) -> None:
        """Check numbers and names."""
        object.__setattr__(self, "source", source_of(self.source))
        if self.mask is not None:
            object.__setattr__(self, "mask", source_of(self.mask))
        check_opacity(self.opacity)
        if self.mode not in MODES:
            raise LookError(f"mode {self.mode!r}{nearest(self.mode, MODES)}")

    @property
    def title(self) -> str:
        """The layer's name, or its file's."""
        return self.name or called(self.source)

    def hidden(self) -> Source:
        """Return the source without what mask and threshold hide."""
        source = self.source
        if self.threshold is not None:
            test = Truth(Computed(source, {"threshold": self.threshold}))
            source = Masked(source, test)
        return source if self.mask is None else Masked(source, self.mask)


def check_opacity(opacity: Any) -> None:
    """Raise LookError for an opacity that is none."""
    if isinstance(opacity, bool) or not isinstance(opacity, int | float) or not 0 <= opacity <= 1:
        raise LookError(f"opacity {opacity!r}: expected 0 (clear) to 1 (opaque)")


AnyLayer: TypeAlias = Layer | Outline


@dataclass(frozen=True)
class DrawnLayer:
    """One layer on the common grid, kept apart: for a page, or to be blended."""

    layer: AnyLayer
    title: str
    rgba: Rgba
    drawn: Drawn | None = None

    @property
    def mode(self) -> str:
        """The blend mode; outlines are simply drawn."""
        return self.layer.mode if isinstance(self.layer, Layer) else "normal"


@dataclass(frozen=True)
class Stack:
    """Layers as they were drawn, the lowest first, and the grid they share."""

    grid: Grid
    layers: tuple[DrawnLayer, ...]
    notes: tuple[str, ...] = field(default=())

    def blended(self) -> Rgba:
        """Return the visible layers as one picture (rows, columns, 4)."""
        shown = [(one.rgba, float(one.layer.opacity), one.mode)
                 for one in self.layers if one.layer.visible]  # fmt: skip
        rows, columns = self.grid.shape
        out = np.zeros((rows, columns, 4), np.uint8)
        work = rows * columns * len(shown)
        parts = row_parts(rows, columns * max(1, len(shown)))
        in_parallel(parts, lambda: lambda part: blended(shown, out, part, work))
        return out

    def picture(self) -> Picture:
        """Return the visible layers as a picture that says what it is made of."""
        scales: list[Scale] = []
        for one in self.layers:
            if one.layer.visible and one.drawn is not None:
                scales += one.drawn.scales
        said = tuple(
            f"Layer {k}: {one.title}, opacity {one.layer.opacity:g}, {one.mode}"
            for k, one in enumerate(self.layers, 1) if one.layer.visible
        )  # fmt: skip
        names = ", ".join(one.title for one in self.layers if one.layer.visible)
        rgba = self.blended()
        return Picture(rgba, self.grid, tuple(scales), names, lambda: _wide(rgba), said)


def _wide(rgba: Rgba) -> Any:
    return rgba.astype(np.uint16) * np.uint16(257)


def stacked(
    layers: Sequence[AnyLayer], *, grid: Grid | None = None, view: View | None = None,
    size: tuple[int, int] | None = None, tell: bool = True,
) -> Stack:  # fmt: skip
    """Draw layers onto one grid: ``grid``, or the first raster's over the area that is viewed.

    ``size`` is (rows, columns); the picture fits inside without being stretched. A layer that does
    not meet the area is left out, with a warning. Raises GridMismatch where none does, or where
    layers cannot be related.
    """
    layers = shown_as_base([_as_layer(one) for one in layers])
    rasters = [one for one in layers if isinstance(one, Layer)]
    if not rasters:
        raise LookError("overlay: expected at least one raster")
    target = common_grid(grid or upright(rasters[0].source).grid, view, size, given=grid)
    check_answer(len(layers), target.shape, np.dtype(np.uint32))
    made, missed = [], []
    for one in layers:
        if isinstance(one, Outline):
            made.append(DrawnLayer(one, one.title, draw_outline(one, target)))
        elif not covers(one.source, target):
            missed.append(one.title)
        else:
            drawn = drawn_onto(one.hidden(), one.look, target)
            made.append(DrawnLayer(one, one.title, drawn.rgba, drawn))
    if missed and not any(one.drawn is not None for one in made):
        raise GridMismatch(
            f"overlay: {', '.join(missed)} do not meet the area shown, {target.bounds}"
        )
    if missed and tell:
        warnings.warn(f"{', '.join(missed)}: not in the area shown, {target.bounds}, and left out",
                      DataWarning, stacklevel=2)  # fmt: skip
    return Stack(target, tuple(made))


def _as_layer(given: Any) -> AnyLayer:
    """Return a layer of a bare raster; a volume is told to be one."""
    if isinstance(given, Layer | Outline):
        return given
    made: Layer = Layer(flat_source_of(getattr(given, "_source", getattr(given, "source", given))))
    return made


def common_grid(
    grid: Grid, view: View | None, size: tuple[int, int] | None, given: Grid | None = None
) -> Grid:
    """Return the grid a stack is drawn on: the part viewed, at the size asked for."""
    view = view or View()
    window = view.window(grid)
    asked = size or view.size
    part = grid.cropped(window)
    if given is not None and asked is None:
        return part.upright()
    return part.resized(fitted(window, asked)).upright()


def overlay(layers: Sequence[AnyLayer], **where: Any) -> Picture:
    """Return one picture of layers: see ``stacked``."""
    return stacked(layers, **where).picture()


def settled_once(layer: AnyLayer) -> AnyLayer:
    """Return a layer with its limits found, from all of its raster, and its masks put on.

    Whoever draws many parts of it finds nothing anew, and gets the same limits in each.
    """
    if isinstance(layer, Outline):
        return layer
    source = upright(layer.hidden())
    everything = whole(source.shape)
    ready = settled(source, layer.look, everything)
    look = ready.look if ready.classes is None else ready.classes
    if ready.classes is None:
        scales = [one.scale for one in shadings_of(ready.source, look, ready.bands, everything)]
        limits = [f"fixed:{scale.low!r},{scale.high!r}" for scale in scales]
        channels = tuple(band + 1 for band in ready.bands)
        look = replace(look, limits=limits, channels=channels, shared=False)
    return replace(layer, source=ready.source, look=look, threshold=None, mask=None)


def shown_as_base(layers: Sequence[AnyLayer]) -> list[AnyLayer]:
    """Return the layers with only the first of the base layers visible: they are alternatives."""
    found: list[AnyLayer] = []
    seen = False
    for one in layers:
        if isinstance(one, Layer) and one.base:
            found.append(replace(one, visible=one.visible and not seen))
            seen = seen or one.visible
        else:
            found.append(one)
    return found
