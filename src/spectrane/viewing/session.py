"""What is shown and how, as plain state: layers, looks, panels, the view; all can be undone.

Nothing here knows of HTTP or HTML.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from spectrane.display.common_limits import common_limits
from spectrane.display.layers import Layer, as_layer, check_opacity
from spectrane.display.outlines import Outline
from spectrane.kernels.blending import MODES
from spectrane.model.errors import LookError, nearest
from spectrane.model.grid import Grid
from spectrane.model.source import Source
from spectrane.model.view import View
from spectrane.spatial.turned import upright
from spectrane.viewing.moving import Moving, count_of, number_of, whole_of
from spectrane.viewing.state import (
    PANELS,
    NamedPlace,
    Opened,
    Place,
    ShownLayer,
    ViewState,
    look_with,
)

SIZE = (640, 960)
"""Rows and columns of the picture before a page says its own."""
_MARKS, _CORNERS, _OUTLINES = 12, 2000, 40
"""At most so many marks, corners of an outline, and outlines."""


@dataclass
class Session(Moving):
    """The layers of a live view, their states, and what was before.

    >>> import numpy as np, spectrane as sp
    >>> sea = sp.from_array(np.arange(64.0).reshape(8, 8))
    >>> session = Session.of([sp.Layer(sea)])
    >>> session.change({"do": "look", "limits": "fixed:0,32"})
    >>> session.undo()
    True
    """

    given: list[Opened]
    state: ViewState
    size: tuple[int, int] = SIZE
    before: list[ViewState] = field(default_factory=list)
    after: list[ViewState] = field(default_factory=list)
    earlier: list[Place] = field(default_factory=list)
    later: list[Place] = field(default_factory=list)
    told: str = ""
    """How the last position was read."""
    names: dict[str, NamedPlace] = field(default_factory=dict)
    _ruled: dict[tuple[int, tuple[Any, ...]], Opened] = field(default_factory=dict)

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
        panel = tuple(one.first_shown() for one in opened)
        center, pixel = whole_of(_grid_of(opened[rasters[0]]), SIZE)
        order = tuple(range(len(opened)))
        return cls(opened, ViewState((panel,), order, rasters[-1], center, pixel))

    @property
    def opened(self) -> list[Opened]:
        """The layers as they were given, under the no-data that was declared since."""
        declared = dict(self.state.nodata)
        return [self._with_rule(number, declared.get(number)) for number in range(len(self.given))]

    def _with_rule(self, number: int, items: tuple[Any, ...] | None) -> Opened:
        if items is None:
            return self.given[number]
        key = (number, items)
        if key not in self._ruled:
            self._ruled[key] = self.given[number].ruled(items)
        return self._ruled[key]

    @property
    def base(self) -> Grid:
        """The grid of the lowest raster, upright: positions are on its map."""
        return self._base_by(self.state.order)

    def _base_by(self, order: Sequence[int]) -> Grid:
        lowest = next(k for k in order if self.given[k].source is not None)
        return _grid_of(self.given[lowest])

    @property
    def active_source(self) -> Source | None:
        """The raster whose look is being changed; None of outlines."""
        return self.opened[self.state.active].source

    @property
    def active_place(self) -> int:
        """Where the layer whose look is being changed stands among the layers, from 0."""
        return self.state.order.index(self.state.active)

    def view(self, size: tuple[int, int] | None = None) -> View:
        """Return the part that is shown."""
        return View(center=self.state.center, pixel=self.state.pixel, size=size or self.size)

    def layers(self, panel: int | None = None) -> list[Layer | Outline]:
        """Return the layers as they are shown now in a panel, the lowest first."""
        shown = self.state.layers if panel is None else self.state.panels[panel]
        opened = self.opened
        return [opened[number].as_shown(shown[number]) for number in self.state.order]

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change. Raises LookError for one that cannot be, and nothing is changed."""
        name = action.get("do")
        if name in ("back", "forth"):
            self.go_back(forth=name == "forth")
            return
        known: dict[str, Callable[..., ViewState]] = self.moves() | {
            "look": self._look, "layer": self._layer, "order": self._order,
            "active": self._active, "mark": self._mark, "outline": self._outline,
            "reset": self._reset, "panels": self._panels, "panel": self._panel,
            "alike": self._alike, "nodata": self._nodata, "restore": self._restore,
        }  # fmt: skip
        self.change_by(known, action)

    # Changes: each returns another state.

    def _at(self, layer: int | None) -> int:
        number = self.state.active if layer is None else layer
        return count_of("layer", number, len(self.given))

    def _look(self, layer: int | None = None, **fields: Any) -> ViewState:
        """Change fields of a look, as a look file has them; None takes one back to its default."""
        number = self._at(layer)
        if self.given[number].source is None:
            raise LookError("outlines have no look")
        shown = self.state.layers[number]
        return self.state.with_layer(number, replace(shown, look=look_with(shown.look, fields)))

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
            shown = replace(shown, mode=mode)
        if threshold is not None:
            shown = replace(shown, threshold=threshold or None)
        self._check(number, shown)
        return self.state.with_layer(number, shown)

    def _check(self, number: int, shown: ShownLayer) -> None:
        """Raise LookError for what no layer can be shown as."""
        check_opacity(shown.opacity)
        if shown.mode not in MODES:
            raise LookError(f"mode {shown.mode!r}{nearest(shown.mode, MODES)}")
        made = self.opened[number].as_shown(shown)
        if isinstance(made, Layer):
            made.hidden()  # an expression that is none is told now

    def _order(self, order: Sequence[int]) -> ViewState:
        if sorted(order) != list(range(len(self.given))):
            raise LookError(f"order {order!r}: expected each of {len(self.given)} layers once")
        return replace(self.carried(self.state, self._base_by(order)), order=tuple(order))

    def _active(self, layer: int) -> ViewState:
        return replace(self.state, active=self._at(layer))

    def _mark(self, column: float | None = None, row: float | None = None) -> ViewState:
        """Mark the pixel under a position of the picture; without one forget all marks."""
        if column is None or row is None:
            return replace(self.state, marks=(), outlines=())
        kept = self.state.marks[-(_MARKS - 1) :]
        return replace(self.state, marks=(*kept, self.at(column, row)))

    def _outline(self, points: Sequence[Sequence[float]]) -> ViewState:
        """Keep an outline drawn by hand: at least three (column, row) of the picture."""
        if not 3 <= len(points) <= _CORNERS:
            raise LookError(f"an outline of {len(points)} points: expected 3 to {_CORNERS}")
        ring = tuple(self.at(column, row) for column, row in points)
        kept = self.state.outlines[-(_OUTLINES - 1) :]
        return replace(self.state, outlines=(*kept, ring))

    def _reset(self) -> ViewState:
        """Show the layers as they came, in every panel."""
        panel = tuple(one.first_shown() for one in self.given)
        panels = (panel,) * len(self.state.panels)
        order = tuple(range(len(self.given)))
        state = self.carried(self.state, self._base_by(order))
        return replace(state, panels=panels, order=order, nodata=())

    def _panels(self, count: int, swiped: bool = False) -> ViewState:
        """Show one, two or four panels; new ones begin as the one that is being changed."""
        if count not in PANELS or (swiped and count != 2):
            raise LookError(f"panels {count!r}: expected 1, 2 or 4, of which 2 can be swiped")
        state = self.state
        kept = (state.layers,) if count == 1 else state.panels[:count]
        added = (state.layers,) * (count - len(kept))
        if swiped and added:
            added = (self._without_top(state.layers),)
        return replace(state, panels=(*kept, *added), swiped=bool(swiped),
                       panel=min(state.panel, count - 1))  # fmt: skip

    def _without_top(self, panel: tuple[ShownLayer, ...]) -> tuple[ShownLayer, ...]:
        """Return a panel without its highest visible layer, if there are several to be seen."""
        seen = [number for number in self.state.order if panel[number].visible]
        if len(seen) < 2:
            return panel
        return tuple(replace(one, visible=False) if number == seen[-1] else one
                     for number, one in enumerate(panel))  # fmt: skip

    def _panel(self, panel: int, only: int | None = None) -> ViewState:
        """Change another panel from now on; ``only`` shows one layer alone in it."""
        number = count_of("panel", panel, len(self.state.panels))
        state = replace(self.state, panel=number)
        if only is None:
            return state
        chosen = count_of("layer", only, len(self.given))
        shown = tuple(replace(one, visible=k == chosen) for k, one in enumerate(state.layers))
        active = state.active if self.given[chosen].source is None else chosen
        return replace(state.with_panel(number, shown), active=active)

    def subject(self, panel: int) -> int:
        """Return the layer that a panel is about: the active one if it is seen, else the highest.

        Raises LookError where no raster is seen in it.
        """
        shown = self.state.panels[panel]
        seen = [number for number in self.state.order
                if shown[number].visible and self.given[number].source is not None]  # fmt: skip
        if not seen:
            raise LookError(f"panel {panel + 1} shows no raster")
        return self.state.active if self.state.active in seen else seen[-1]

    def _alike(self) -> ViewState:
        """Show what every panel is about in the active look, under limits of all of it together."""
        state, opened = self.state, self.opened
        look = state.layers[self.subject(state.panel)].look
        about = [self.subject(panel) for panel in range(len(state.panels))]
        sources = [opened[number].source for number in about]
        distinct = dict.fromkeys(about)
        looks = common_limits([(source, look) for source in
                               (opened[number].source for number in distinct)
                               if source is not None])  # fmt: skip
        found = dict(zip(distinct, looks, strict=True))
        assert None not in sources
        for panel, number in enumerate(about):
            shown = list(state.panels[panel])
            shown[number] = replace(shown[number], look=found[number])
            state = state.with_panel(panel, tuple(shown))
        return state

    def _nodata(self, items: Sequence[Any], layer: int | None = None) -> ViewState:
        """Declare what means nothing in a raster, until it is closed; none takes that back."""
        number = self._at(layer)
        if self.given[number].source is None:
            raise LookError("outlines have no no-data value")
        declared = {key: value for key, value in self.state.nodata if key != number}
        if items:
            chosen = tuple(tuple(one) if isinstance(one, list) else one for one in items)
            self._with_rule(number, chosen)  # what is no rule is told now
            declared[number] = chosen
        return replace(self.state, nodata=tuple(sorted(declared.items())))

    # The whole of it as plain values, for an address.

    def to_dict(self) -> dict[str, Any]:
        """Return what is seen as plain values, which ``restore`` takes."""
        state = self.state
        return {
            "panels": [[one.to_dict() for one in panel] for panel in state.panels],
            "order": list(state.order), "active": state.active, "panel": state.panel,
            "swiped": state.swiped, "center": list(state.center), "pixel": state.pixel,
            "nodata": [[number, list(items)] for number, items in state.nodata],
        }  # fmt: skip

    def _restore(
        self, panels: Sequence[Sequence[Mapping[str, Any]]], order: Sequence[int], active: int,
        center: Sequence[float], pixel: float, panel: int = 0, swiped: bool = False,
        nodata: Sequence[tuple[int, Sequence[Any]]] = (),
    ) -> ViewState:  # fmt: skip
        """Show what ``to_dict`` told."""
        made = tuple(tuple(ShownLayer.from_dict(one) for one in shown) for shown in panels)
        if len(made) not in PANELS or any(len(one) != len(self.given) for one in made):
            raise LookError(f"restore: expected {len(self.given)} layers in 1, 2 or 4 panels")
        if sorted(order) != list(range(len(self.given))):
            raise LookError(f"order {order!r}: expected each of {len(self.given)} layers once")
        for one in made:
            for number, shown in enumerate(one):
                self._check(number, shown)
        x, y = (number_of("center", one) for one in center)
        declared = []
        for number, items in nodata:
            chosen = tuple(tuple(one) if isinstance(one, list) else one for one in items)
            self._with_rule(count_of("layer", number, len(self.given)), chosen)
            declared.append((number, chosen))
        return replace(
            self.state, panels=made, order=tuple(order), active=self._at(active),
            panel=count_of("panel", panel, len(made)), swiped=bool(swiped) and len(made) == 2,
            center=(x, y), pixel=number_of("pixel", pixel), nodata=tuple(declared),
        )  # fmt: skip


def _grid_of(opened: Opened) -> Grid:
    assert opened.source is not None
    return upright(opened.source).grid
