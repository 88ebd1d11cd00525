"""Layers bottom to top: each with its look, opacity and blend mode, on one grid."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import KW_ONLY, field, replace
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, get_args

import numpy as np

from spectrane.analysis.expressions import Computed
from spectrane.display.drawing import Rgba
from spectrane.display.keys import Shown
from spectrane.display.onto import covers, drawn_onto, seen_under
from spectrane.display.orientation import lying
from spectrane.display.outlines import LayerBase, Outline, draw_outline
from spectrane.display.picture import Picture
from spectrane.display.plan import RenderPlan, resolve
from spectrane.display.shading import Scale
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels.blending import MODES, BlendMode, blended, not_hidden, unchanged
from spectrane.kernels.quiet import quiet_methods
from spectrane.kernels.records import record
from spectrane.model.asking import SourceLike
from spectrane.model.errors import GridMismatch, LookError, nearest
from spectrane.model.grid import Grid
from spectrane.model.look import Look, look_of
from spectrane.model.shortly import short_repr
from spectrane.model.source import Source, called, check_answer, flat_source_of, source_of
from spectrane.model.telling import warn_caller
from spectrane.model.view import View, view_of
from spectrane.spatial.coordinates import share_inside, tell_planes
from spectrane.spatial.grids import union
from spectrane.spatial.masks import Masked, Truth
from spectrane.spatial.turned import upright

_CUT = 0.005
"""A layer of which a larger share lies outside is said to be cut."""


@record(frozen=True)
class Layer(LayerBase):
    """A raster to be laid over others, or a volume in its slices, and how.

    ``opacity`` is 0...1; ``mode`` ``normal``, ``multiply`` (for relief shading), ``screen`` or
    ``hue`` (colour from this layer, lightness from below). ``threshold`` is an expression over the
    raster's bands; where it is not true, the layer is transparent. ``mask`` a raster of true and
    false. ``base`` layers are alternatives of which a page shows one. ``VolumeLayer`` has more to
    say of a volume. Raises LookError for a number or a word that is none.

    >>> import numpy as np, spectrane as sp
    >>> sp.Layer(sp.from_array(np.ones((2, 2))), opacity=0.5, name="fog").title
    'fog'
    """

    source: Source
    look: Look | None = None
    _: KW_ONLY
    opacity: float = 1.0
    visible: bool = True
    threshold: str | None = None
    name: str | None = None
    mode: BlendMode = "normal"
    mask: SourceLike | None = None
    base: bool = False

    if TYPE_CHECKING:  # what is given may be a raster; what is held is its source

        def __init__(
            self, source: SourceLike, look: Look | None = None, *, opacity: float = 1.0,
            visible: bool = True, threshold: str | None = None, name: str | None = None,
            mode: BlendMode = "normal", mask: SourceLike | None = None, base: bool = False,
        ) -> None: ...  # fmt: skip

    def __post_init__(self) -> None:
        """Check numbers and names."""
        object.__setattr__(self, "source", source_of(self.source))
        look_of(self.look)
        if self.mask is not None:
            object.__setattr__(self, "mask", source_of(self.mask))
        check_opacity(self.opacity)
        if not isinstance(self.threshold, str | None):
            raise LookError(
                f"threshold {self.threshold!r}: expected an expression such as 'nir > 3'"
            )
        if self.mode not in MODES:
            raise LookError(f"mode {self.mode!r}{nearest(self.mode, MODES)}")

    @property
    def title(self) -> str:
        """The layer's name, or its file's."""
        return self.name or called(self.source)

    def hidden(self) -> Source:
        """Return the source without what mask and threshold hide.

        >>> import numpy as np, spectrane as sp
        >>> layer = sp.Layer(sp.from_array(np.array([[1, 5]])), threshold="band(1) > 3")
        >>> layer.hidden().shape
        (1, 2)
        """
        source = self.source
        if self.threshold is not None:
            test = Truth(Computed(source, {"threshold": self.threshold}))
            source = Masked(source, test)
        return source if self.mask is None else Masked(source, source_of(self.mask))


def check_opacity(opacity: Any) -> None:
    """Raise LookError for an opacity that is none."""
    if isinstance(opacity, bool) or not isinstance(opacity, int | float) or not 0 <= opacity <= 1:
        raise LookError(f"opacity {opacity!r}: expected 0 (clear) to 1 (opaque)")


@record(frozen=True)
class PlannedLayer:
    """A layer whose look is resolved and whose masks are put on, to be drawn on any grid.

    Picklable, so that other processes can draw parts of it alike.
    """

    layer: Layer
    source: Source
    plan: RenderPlan

    @classmethod
    def of(cls, layer: Layer, grid: Grid | None = None) -> PlannedLayer:
        """Resolve a layer; ``grid`` is the view, for limits that see it (None: all of it)."""
        source = upright(flat_source_of(layer.hidden()))
        seen = None if grid is None else seen_under(source, grid)
        return cls(layer, source, resolve(source, layer.look, seen))


AnyLayer: TypeAlias = Layer | Outline | PlannedLayer


def planned(layers: Sequence[object]) -> list[PlannedLayer | Outline]:
    """Resolve layers once, from all of each raster: for many parts that must look alike."""
    shown = shown_as_base([as_layer(layer) for layer in layers])
    plans = [
        layer if isinstance(layer, PlannedLayer)
        else layer.ready() if isinstance(layer, Outline)
        else PlannedLayer.of(layer)
        for layer in shown
    ]  # fmt: skip
    for one in plans:
        if isinstance(one, PlannedLayer):
            one.plan.tell()
    return plans


@record(frozen=True)
class DrawnLayer:
    """One layer on the common grid, kept apart: for a page, or to be blended."""

    layer: Layer | Outline
    title: str
    rgba: Rgba
    planned: PlannedLayer | None = None

    __repr__ = short_repr

    @property
    def mode(self) -> str:
        """The blend mode; outlines are simply drawn."""
        return self.layer.mode if isinstance(self.layer, Layer) else "normal"

    @property
    def scales(self) -> tuple[Scale, ...]:
        """How each channel of a raster is shown; none of outlines."""
        return () if self.planned is None else self.planned.plan.scales


@quiet_methods
@record(frozen=True)
class Stack:
    """Layers as they were drawn, the lowest first, and the grid they share.

    >>> import numpy as np, spectrane as sp
    >>> stack = sp.stack([sp.from_array(np.arange(64.0).reshape(8, 8))])
    >>> len(stack.layers), stack.grid.shape
    (1, (8, 8))
    """

    grid: Grid
    layers: tuple[DrawnLayer, ...]
    notes: tuple[str, ...] = field(default=())

    __repr__ = short_repr

    def blended(self) -> Rgba:
        """Return the visible layers as one picture (rows, columns, 4).

        >>> import numpy as np, spectrane as sp
        >>> sp.stack([sp.from_array(np.arange(64.0).reshape(8, 8))]).blended().shape
        (8, 8, 4)
        """
        shown = self._not_hidden
        rows, columns = self.grid.shape
        out = np.zeros((rows, columns, 4), np.uint8)
        work = rows * columns * len(shown)
        parts = row_parts(rows, columns * max(1, len(shown)))
        in_parallel(parts, lambda: lambda part: blended(shown, out, part, work))
        return out

    @property
    def _not_hidden(self) -> list[tuple[Rgba, float, str]]:
        return not_hidden([(drawn.rgba, float(drawn.layer.opacity), drawn.mode)
                           for drawn in self.layers if drawn.layer.visible])  # fmt: skip

    def picture(self) -> Picture:
        """Return the visible layers as a picture that says what it is made of.

        >>> import numpy as np, spectrane as sp
        >>> sp.stack([sp.from_array(np.arange(64.0).reshape(8, 8))]).picture().rgba.shape
        (8, 8, 4)
        """
        scales: list[Scale] = []
        for drawn in self.layers:
            if drawn.layer.visible:
                scales += drawn.scales
        said = tuple(
            f"Layer {k}: {drawn.title}, opacity {drawn.layer.opacity:g}, {drawn.mode}"
            for k, drawn in enumerate(self.layers, 1) if drawn.layer.visible
        )  # fmt: skip
        names = ", ".join(drawn.title for drawn in self.layers if drawn.layer.visible)
        shown = tuple(
            Shown(drawn.title, drawn.planned.plan, rgba=drawn.rgba)
            for drawn in self.layers if drawn.layer.visible and drawn.planned is not None
        )  # fmt: skip
        return Picture(self.blended(), self.grid, tuple(scales), names, said, shown=shown)


def to_read(stack: Stack) -> Rgba:
    """Return what ``blended`` does, not to be changed: where one layer alone is seen, its own.

    >>> import numpy as np, spectrane as sp
    >>> stack = sp.stack([sp.from_array(np.arange(64.0).reshape(8, 8))])
    >>> to_read(stack) is stack.layers[0].rgba
    True
    """
    alone = unchanged(stack._not_hidden)
    return stack.blended() if alone is None else alone


StackArea = Literal["bottom", "union"]
AREAS: tuple[StackArea, ...] = get_args(StackArea)
"""What a stack covers: the lowest raster, or all rasters, on the lowest one's pixels."""


def stacked(
    layers: Sequence[object], *, grid: Grid | None = None, view: View | None = None,
    size: tuple[int, int] | None = None, area: str = "bottom", tell: bool = True,
) -> Stack:  # fmt: skip
    """Draw layers onto one grid: ``grid``, or the first raster's over the area that is viewed.

    ``size`` is (rows, columns); the picture fits inside without being stretched. ``area`` is
    ``bottom`` or ``union``: what the lowest raster covers, or all of them do. Layers that the
    lowest one's area cuts, and those that do not meet it and are left out, are told with a warning.
    Raises GridMismatch where none meets it, or where layers cannot be related.
    """
    listed = shown_as_base([as_layer(layer) for layer in layers])
    rasters = [item for item in listed if not isinstance(item, Outline)]
    if not rasters:
        raise LookError("overlay: expected at least one raster")
    base, view = grid or base_grid(rasters, area), view_of(view)
    target = common_grid(base, view, size, given=grid)
    check_answer(len(listed), target.shape, np.dtype(np.uint32))
    made, missed = [], []
    for item in listed:
        if isinstance(item, Outline):
            made.append(DrawnLayer(item, item.title, draw_outline(item, target)))
            if not made[-1].rgba[..., 3].any():
                missed.append(item.title)
        elif not covers(item.source, target):
            missed.append((item.layer if isinstance(item, PlannedLayer) else item).title)
        else:
            made.append(_drawn(item, target, tell))
    if not any(drawn.planned is not None for drawn in made):
        raise GridMismatch(
            f"overlay: {', '.join(missed)} do not meet the area shown, {target.bounds}"
        )
    if tell:
        _tell(made, missed, target)
        if grid is None and view == View(size=view.size):
            _tell_cut([drawn for drawn in made if drawn.planned is not None], base)
    return Stack(target, tuple(made), tuple(lying(base, view) if grid is None else ()))


def base_grid(rasters: Sequence[Layer | PlannedLayer], area: str) -> Grid:
    """Return the grid of the lowest raster, or its pixels over all that the rasters cover."""
    if area not in AREAS:
        raise LookError(f"area {area!r}{nearest(area, AREAS)}")
    grids = [upright(raster.source).grid for raster in rasters]
    return grids[0] if area == "bottom" or not grids[0].placed else union(grids, grids[0])


def _tell(made: Sequence[DrawnLayer], missed: Sequence[str], target: Grid) -> None:
    """Warn of layers that are not in the area shown, and of those of which nothing is seen."""
    if missed:
        warn_caller(f"{', '.join(missed)}: not in the area shown, {target.bounds}, and left out")
    rasters = [drawn for drawn in made if drawn.planned is not None]
    empty = [drawn.title for drawn in rasters
             if drawn.layer.visible and not drawn.rgba[..., 3].any()]  # fmt: skip
    if empty:
        warn_caller(f"{', '.join(empty)}: no valid pixel in the area shown, or none that a mask or "
                    "threshold lets be seen")  # fmt: skip
    tell_planes([(drawn.title, drawn.planned.source.grid) for drawn in rasters if drawn.planned])


def _tell_cut(drawn: Sequence[DrawnLayer], base: Grid) -> None:
    """Warn of rasters of which a part lies outside the area, and how much."""
    cut = []
    for layer in drawn:
        assert layer.planned is not None
        lost = 1.0 - share_inside(layer.planned.source.grid, base)
        if lost >= _CUT:
            cut.append(f"{lost:.0%} of {layer.title}")
    if cut:
        warn_caller(
            f"{', '.join(cut)}: outside the area of the bottom layer, {drawn[0].title}, and cut "
            "off; area='union' (--area union) shows all"
        )


def _drawn(one: Layer | PlannedLayer, target: Grid, tell: bool) -> DrawnLayer:
    ready = one if isinstance(one, PlannedLayer) else PlannedLayer.of(one, target)
    if tell and ready is not one:
        ready.plan.tell()
    rgba = drawn_onto(ready.plan, ready.source, target)
    return DrawnLayer(ready.layer, ready.layer.title, rgba, ready)


def as_layer(given: object) -> AnyLayer:
    """Return a layer of a bare raster; a volume is told to be one."""
    if isinstance(given, Outline | PlannedLayer):
        return given
    layer = given if isinstance(given, Layer) else None
    if layer is None:
        pair: tuple[Any, ...] = given if isinstance(given, tuple) else (given,)
        first: Any = getattr(pair[0], "source", None) if isinstance(pair[0], LayerBase) else pair[0]
        layer = Layer(first, *pair[1:])
    flat_source_of(layer.source)
    return layer


def common_grid(
    grid: Grid, view: View | None, size: tuple[int, int] | None, given: Grid | None = None
) -> Grid:
    """Return the grid a stack is drawn on: the part viewed, at the size asked for."""
    view = view_of(view)
    target = view.target(grid, size)
    if target is not None:
        return target
    window = view.span(grid)
    asked = size or view.size
    part = grid.cropped(window)
    if given is not None and asked is None:
        return part.upright()
    return part.resized(view.shape(grid, window, asked)).upright()


def draw_layers(layers: Sequence[object], **where: Any) -> Picture:
    """Return one picture of layers: see ``stacked``."""
    return stacked(layers, **where).picture()


def shown_as_base(layers: Sequence[AnyLayer]) -> list[AnyLayer]:
    """Return the layers with only the first of the base layers visible: they are alternatives."""
    layers_shown: list[AnyLayer] = []
    seen = False
    for drawn in layers:
        layer = drawn.layer if isinstance(drawn, PlannedLayer) else drawn
        if isinstance(layer, Outline) or not layer.base:
            layers_shown.append(drawn)
            continue
        alone = replace(layer, visible=layer.visible and not seen)
        layers_shown.append(
            replace(drawn, layer=alone) if isinstance(drawn, PlannedLayer) else alone
        )
        seen = seen or layer.visible
    return layers_shown
