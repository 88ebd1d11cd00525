"""What is shown and how, as plain state: layers, looks, the view; every change can be undone.

Nothing here knows of HTTP or HTML. A state is frozen; a change makes another one, so that undoing
is going back to the one before.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from spectrane.display.layers import Layer, as_layer, check_opacity
from spectrane.display.outlines import Outline
from spectrane.kernels.blending import MODES
from spectrane.model.errors import LookError, nearest
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.source import Source, source_of
from spectrane.model.view import View
from spectrane.spatial.positions import read_position
from spectrane.spatial.turned import upright

SIZE = (640, 960)
"""Rows and columns of the picture before a page says its own."""
_LEAST, _MOST = 1 / 256, 4096.0
"""Picture pixels to the pixel of the lowest raster: how far one can zoom in, and out."""
_REMEMBERED = 500


@dataclass(frozen=True)
class ShownLayer:
    """How one layer is shown."""

    look: Look
    opacity: float = 1.0
    visible: bool = True
    mode: str = "normal"
    threshold: str | None = None


@dataclass(frozen=True)
class ViewState:
    """Everything that a change changes: how layers are shown, in which order, and the view.

    ``center`` is a position on the lowest raster's map, ``pixel`` a picture pixel's side there.
    ``active`` is the layer whose look is being changed.
    """

    layers: tuple[ShownLayer, ...]
    order: tuple[int, ...]
    active: int
    center: tuple[float, float]
    pixel: float
    marks: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class Opened:
    """A layer as it was given, and where it comes from: a file, the options that say which values
    it has, and the same as Python.
    """

    layer: Layer | Outline
    file: str | None = None
    words: tuple[str, ...] = ()
    code: str = ""

    @property
    def source(self) -> Source | None:
        """The raster; None of outlines."""
        return None if isinstance(self.layer, Outline) else source_of(self.layer.source)


@dataclass
class Session:
    """The layers of a live view, their states, and what was before.

    >>> import numpy as np, spectrane as sp
    >>> sea = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> session = Session.of([sp.Layer(sea)])
    >>> session.change({"do": "look", "limits": "fixed:0,32"})
    >>> session.undo()
    True
    """

    opened: list[Opened]
    state: ViewState
    size: tuple[int, int] = SIZE
    before: list[ViewState] = field(default_factory=list)
    after: list[ViewState] = field(default_factory=list)
    told: str = ""
    """How the last position was read."""

    @classmethod
    def of(cls, layers: Sequence[Any], files: Sequence[Opened | None] = ()) -> Session:
        """Return a session of layers, the lowest first; ``files`` say where they come from."""
        opened = []
        for number, given in enumerate(layers):
            layer: Any = as_layer(given)
            known = files[number] if number < len(files) else None
            opened.append(Opened(layer) if known is None else replace(known, layer=layer))
        rasters = [k for k, one in enumerate(opened) if one.source is not None]
        if not rasters:
            raise LookError("view: expected at least one raster")
        shown = tuple(_shown(one.layer) for one in opened)
        grid = _base(opened, rasters[0])
        center, pixel = _whole(grid, SIZE)
        return cls(opened, ViewState(shown, tuple(range(len(opened))), rasters[-1], center, pixel))

    @property
    def base(self) -> Grid:
        """The grid of the lowest raster, upright: positions are on its map."""
        lowest = next(k for k in self.state.order if self.opened[k].source is not None)
        return _base(self.opened, lowest)

    def view(self, size: tuple[int, int] | None = None) -> View:
        """Return the part that is shown."""
        return View(center=self.state.center, pixel=self.state.pixel, size=size or self.size)

    def layers(self) -> list[Layer | Outline]:
        """Return the layers as they are shown now, the lowest first."""
        made: list[Layer | Outline] = []
        for number in self.state.order:
            layer, shown = self.opened[number].layer, self.state.layers[number]
            made.append(with_shown(layer, shown))
        return made

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change. Raises LookError for one that cannot be, and nothing is changed."""
        name = action.get("do")
        known: dict[Any, Callable[..., ViewState]] = {
            "look": self._look, "layer": self._layer, "zoom": self._zoom, "pan": self._pan,
            "whole": self._whole, "one": self._one_to_one, "goto": self._goto,
            "order": self._order, "active": self._active, "mark": self._mark,
            "place": self._place, "reset": self._reset,
        }  # fmt: skip
        if name not in known:
            raise LookError(f"do {name!r}{nearest(str(name), known)}")
        said = {key: value for key, value in action.items() if key not in ("do", "together")}
        try:
            state = known[name](**said)
        except TypeError as error:
            raise LookError(f"{name}: {error}") from error
        self._keep(state, together=bool(action.get("together")))

    def _keep(self, state: ViewState, *, together: bool) -> None:
        """Take a state; ``together`` with the one before, as the steps of one drag are."""
        if state == self.state:
            return
        if not together:
            self.before = [*self.before[-_REMEMBERED:], self.state]
        self.state, self.after = state, []

    def undo(self) -> bool:
        """Go back to what was before; False where nothing was."""
        if not self.before:
            return False
        self.after.append(self.state)
        self.state = self.before.pop()
        return True

    def redo(self) -> bool:
        """Go forward again; False where nothing was undone."""
        if not self.after:
            return False
        self.before.append(self.state)
        self.state = self.after.pop()
        return True

    # Changes: each returns another state.

    def _at(self, layer: int | None) -> int:
        number = self.state.active if layer is None else layer
        if (
            isinstance(number, bool)
            or not isinstance(number, int)
            or not (0 <= number < len(self.opened))
        ):
            raise LookError(f"layer {layer!r}: there are {len(self.opened)}, counted from 0")
        return number

    def _with(self, number: int, shown: ShownLayer) -> ViewState:
        layers = (*self.state.layers[:number], shown, *self.state.layers[number + 1 :])
        return replace(self.state, layers=layers)

    def _look(self, layer: int | None = None, **fields: Any) -> ViewState:
        """Change fields of a look, as a look file has them; None takes one back to its default."""
        number = self._at(layer)
        if self.opened[number].source is None:
            raise LookError("outlines have no look")
        shown = self.state.layers[number]
        given = shown.look.to_dict() | fields
        given = {key: value for key, value in given.items() if value is not None}
        return self._with(number, replace(shown, look=Look.from_dict(given)))

    def _layer(
        self, layer: int | None = None, *, opacity: Any = None, visible: Any = None,
        mode: str | None = None, threshold: str | None = None,
    ) -> ViewState:  # fmt: skip
        number = self._at(layer)
        shown = self.state.layers[number]
        if opacity is not None:
            check_opacity(opacity)
            shown = replace(shown, opacity=float(opacity))
        if visible is not None:
            shown = replace(shown, visible=bool(visible))
        if mode is not None:
            if mode not in MODES:
                raise LookError(f"mode {mode!r}{nearest(mode, MODES)}")
            shown = replace(shown, mode=mode)
        if threshold is not None:
            shown = replace(shown, threshold=threshold or None)
            made = with_shown(self.opened[number].layer, shown)
            if isinstance(made, Layer):
                made.hidden()  # an expression that is none is told now
        return self._with(number, shown)

    def _order(self, order: Sequence[int]) -> ViewState:
        if sorted(order) != list(range(len(self.opened))):
            raise LookError(f"order {order!r}: expected each of {len(self.opened)} layers once")
        return replace(self.state, order=tuple(order))

    def _active(self, layer: int) -> ViewState:
        return replace(self.state, active=self._at(layer))

    def _zoom(
        self, factor: float, column: float | None = None, row: float | None = None
    ) -> ViewState:
        """Zoom in by a factor; what lies under a position of the picture stays there."""
        if not 0 < _number("factor", factor) < 1e6:
            raise LookError(f"factor {factor!r}: expected more than 0")
        rows, columns = self.size
        x, y = self.at(columns / 2 if column is None else column, rows / 2 if row is None else row)
        pixel = self._bounded(self.state.pixel / factor)
        share = pixel / self.state.pixel
        center = self.state.center
        moved = (x + (center[0] - x) * share, y + (center[1] - y) * share)
        return replace(self.state, center=moved, pixel=pixel)

    def _bounded(self, pixel: float) -> float:
        own = min(self.base.pixel_size)
        return min(max(pixel, own * _LEAST), own * _MOST)

    def _pan(self, columns: float, rows: float) -> ViewState:
        """Move the picture by so many of its pixels to the right, and down."""
        x, y = self.state.center
        up = 1 if self.base.y_up else -1
        dx = _number("columns", columns) * self.state.pixel
        dy = _number("rows", rows) * self.state.pixel * up
        return replace(self.state, center=(x - dx, y + dy))

    def _whole(self) -> ViewState:
        center, pixel = _whole(self.base, self.size)
        return replace(self.state, center=center, pixel=pixel)

    def _one_to_one(self) -> ViewState:
        return replace(self.state, pixel=min(self.base.pixel_size))

    def _place(self, x: float, y: float, pixel: float | None = None) -> ViewState:
        center = (_number("x", x), _number("y", y))
        side = self.state.pixel if pixel is None else self._bounded(_number("pixel", pixel))
        return replace(self.state, center=center, pixel=side)

    def _goto(self, text: str) -> ViewState:
        """Go to a position as people write it: see ``spatial.positions``."""
        found = read_position(str(text), self.base)
        if found.crs is None or self.base.crs_text is None:
            x, y = found.x, found.y
        else:
            x, y = View(center=(found.x, found.y), pixel=1.0, size=(1, 1),
                        crs=found.crs).middle(self.base)  # fmt: skip
        self.told = found.said
        return replace(self.state, center=(float(x), float(y)))

    def _mark(self, column: float | None = None, row: float | None = None) -> ViewState:
        """Mark the pixel under a position of the picture; without one forget all marks."""
        if column is None or row is None:
            return replace(self.state, marks=())
        return replace(self.state, marks=(*self.state.marks[-11:], self.at(column, row)))

    def _reset(self) -> ViewState:
        """Show the layers as they came."""
        return replace(self.state, layers=tuple(_shown(one.layer) for one in self.opened),
                       order=tuple(range(len(self.opened))))  # fmt: skip

    def at(self, column: float, row: float) -> tuple[float, float]:
        """Return the map position under a position of the picture (from its upper left corner)."""
        rows, columns = self.size
        x, y = self.state.center
        up = 1 if self.base.y_up else -1
        return (x + (_number("column", column) - columns / 2) * self.state.pixel,
                y - (_number("row", row) - rows / 2) * self.state.pixel * up)  # fmt: skip

    def resize(self, rows: int, columns: int) -> None:
        """Take the size of the picture; what is in its middle stays there."""
        self.size = (min(max(int(rows), 16), 4096), min(max(int(columns), 16), 4096))


def with_shown(layer: Layer | Outline, shown: ShownLayer) -> Layer | Outline:
    """Return a layer as it is shown."""
    if isinstance(layer, Outline):
        return replace(layer, opacity=shown.opacity, visible=shown.visible)
    mode: Any = shown.mode
    return replace(layer, look=shown.look, opacity=shown.opacity, visible=shown.visible, mode=mode,
                   threshold=shown.threshold)  # fmt: skip


def _shown(layer: Layer | Outline) -> ShownLayer:
    if isinstance(layer, Outline):
        return ShownLayer(Look(), layer.opacity, layer.visible)
    look = layer.look or source_of(layer.source).look or Look()
    return ShownLayer(look, layer.opacity, layer.visible, layer.mode, layer.threshold)


def _base(opened: Sequence[Opened], number: int) -> Grid:
    source = opened[number].source
    assert source is not None
    return upright(source).grid


def _whole(grid: Grid, size: tuple[int, int]) -> tuple[tuple[float, float], float]:
    """Return the middle and the pixel of a picture that shows all of a grid."""
    x_min, y_min, x_max, y_max = grid.bounds
    pixel = max((x_max - x_min) / size[1], (y_max - y_min) / size[0])
    return ((x_min + x_max) / 2, (y_min + y_max) / 2), pixel


def _number(name: str, given: Any) -> float:
    fine = isinstance(given, int | float) and not isinstance(given, bool)
    if not fine or not abs(given) < 1e15:
        raise LookError(f"{name} {given!r}: expected a number")
    return float(given)
