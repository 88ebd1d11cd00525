"""What a live view of rasters shows, as plain frozen state."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

from spectrane.analysis.fills import nodata_text
from spectrane.display.layers import Layer
from spectrane.display.outlines import Outline
from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.look import Look
from spectrane.model.source import Source, source_of
from spectrane.spatial.described import with_nodata

PANELS = (1, 2, 4)
"""How many panels there may be."""
Place = tuple[tuple[float, float], float]
"""The middle of what is seen, and a picture pixel's side, on the lowest raster's map."""

NamedPlace = tuple[float, float, str]
"""A named point's x and y on the lowest raster's map, and the file that names it."""


def look_with(look: Look, fields: Mapping[str, Any]) -> Look:
    """Return a look with fields changed, as a look file has them; None takes one back to its
    default.

    >>> look_with(Look(channels=(1,), limits=(0, 9)), {"channels": None}).to_dict()
    {'limits': 'fixed:0,9'}
    """
    given = {**look.to_dict(), **fields}
    return Look.from_dict({key: value for key, value in given.items() if value is not None})


@record(frozen=True)
class ShownLayer:
    """How one layer is shown in a panel."""

    look: Look
    opacity: float = 1.0
    visible: bool = True
    mode: str = "normal"
    threshold: str | None = None

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, which ``from_dict`` takes.

        >>> ShownLayer.from_dict(ShownLayer(Look(limits=(0, 9)), 0.5).to_dict()).opacity
        0.5
        """
        return asdict(replace(self, look=Look())) | {"look": self.look.to_dict()}

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> ShownLayer:
        """Return what ``to_dict`` told. Raises LookError for what is none."""
        try:
            fields = dict(given)
            return cls(Look.from_dict(fields.pop("look", {})), **fields)
        except (TypeError, ValueError) as error:
            raise LookError(f"layer {given!r}: {error}") from error


Panel = tuple[ShownLayer, ...]
"""How every layer is shown in one panel."""


@record(frozen=True)
class ViewState:
    """Everything that a change changes: how layers are shown in each panel, and the view.

    ``order`` (the lowest first), place, marks and outlines are those of all panels. ``center`` is a
    position on the lowest raster's map, ``pixel`` a picture pixel's side there. ``active`` is the
    layer whose look is being changed, in the panel ``panel``. ``swiped`` lays two panels on one
    another. ``nodata`` is what was declared since the layers were opened, of each that has some.
    """

    panels: tuple[Panel, ...]
    order: tuple[int, ...]
    active: int
    center: tuple[float, float]
    pixel: float
    panel: int = 0
    swiped: bool = False
    marks: tuple[tuple[float, float], ...] = ()
    outlines: tuple[tuple[tuple[float, float], ...], ...] = ()
    nodata: tuple[tuple[int, tuple[Any, ...]], ...] = ()

    @property
    def layers(self) -> Panel:
        """How the layers are shown in the panel that is being changed."""
        return self.panels[self.panel]

    @property
    def place(self) -> Place:
        """The part of the map that is seen."""
        return self.center, self.pixel

    def with_layer(self, number: int, shown: ShownLayer) -> ViewState:
        """Return the state with a layer of the active panel shown so."""
        panel = (*self.layers[:number], shown, *self.layers[number + 1 :])
        return self.with_panel(self.panel, panel)

    def with_panel(self, number: int, panel: Panel) -> ViewState:
        """Return the state with another panel at a place."""
        return replace(self, panels=(*self.panels[:number], panel, *self.panels[number + 1 :]))


@record(frozen=True)
class Opened:
    """A layer as it was given, and where it comes from: a file, the options that say which values
    it has, the same as Python, and as a table of a layer file (its files named as from here).
    """

    layer: Layer | Outline
    file: str | None = None
    words: tuple[str, ...] = ()
    code: str = ""
    table: Mapping[str, Any] | None = None

    @property
    def source(self) -> Source | None:
        """The raster; None of outlines."""
        return None if isinstance(self.layer, Outline) else source_of(self.layer.source)

    def first_shown(self) -> ShownLayer:
        """Return how it is shown as it came."""
        layer = self.layer
        if isinstance(layer, Outline):
            return ShownLayer(Look(), layer.opacity, layer.visible)
        look = layer.look or source_of(layer.source).look or Look()
        return ShownLayer(look, layer.opacity, layer.visible, layer.mode, layer.threshold)

    def ruled(self, items: tuple[Any, ...]) -> Opened:
        """Return it with no-data declared, as the option and the Python of it say too."""
        assert not isinstance(self.layer, Outline)
        source = with_nodata(source_of(self.layer.source), list(items))
        return replace(
            self, layer=replace(self.layer, source=source),
            words=("--nodata", nodata_text(items)), code=f".with_nodata({list(items)!r})",
            table=None if self.table is None else {**self.table, "nodata": _plain(items)},
        )  # fmt: skip

    def as_shown(self, shown: ShownLayer) -> Layer | Outline:
        """Return the layer as it is shown."""
        if isinstance(self.layer, Outline):
            return replace(self.layer, opacity=shown.opacity, visible=shown.visible)
        mode: Any = shown.mode
        return replace(self.layer, look=shown.look, opacity=shown.opacity, visible=shown.visible,
                       mode=mode, threshold=shown.threshold)  # fmt: skip


def _plain(items: tuple[Any, ...]) -> list[Any]:
    return [list(one) if isinstance(one, tuple) else one for one in items]
