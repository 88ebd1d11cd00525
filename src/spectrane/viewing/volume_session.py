"""A live view of volumes as plain state: planes through a point, looks, thresholds."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np

from spectrane.display.layers import check_opacity
from spectrane.display.slice_layers import check_meeting
from spectrane.display.slices import whole_planes
from spectrane.display.volume_layers import VolumeLayer, volume_layer
from spectrane.model.errors import LookError, nearest
from spectrane.model.patient import own_turn, reach
from spectrane.spatial.slicing import AXES, PLANES, PROJECTIONS, SIDES
from spectrane.viewing.history import History
from spectrane.viewing.moving import count_of, number_of
from spectrane.viewing.state import look_with
from spectrane.viewing.volume_state import (
    F64,
    PANES,
    Millimetres,
    Pane,
    ShownVolume,
    VolumeGiven,
    VolumeState,
    as_point,
)

SIZE = (400, 480)
_LEAST, _MOST, _MARKS = 1e-3, 50.0, 12
_NUMBERS = re.compile(r"\s*([-+\d.eE]+)[\s,;]+([-+\d.eE]+)[\s,;]+([-+\d.eE]+)\s*$")


@dataclass
class VolumeSession(History[VolumeState]):
    """The volumes of a live view, the first the lowest, their states, and what was before.

    >>> import numpy as np, spectrane as sp
    >>> ball = sp.volume_from_array(np.ones((5, 6, 7)), affine=np.eye(4))
    >>> session = VolumeSession.of([ball])
    >>> session.change({"do": "goto", "text": "1, 2, 3"})
    >>> session.state.point
    (1.0, 2.0, 3.0)
    """

    given: list[VolumeGiven]
    state: VolumeState
    size: tuple[int, int] = SIZE
    before: list[VolumeState] = field(default_factory=list)
    after: list[VolumeState] = field(default_factory=list)
    told: str = ""
    _panes: dict[int, tuple[VolumeState, tuple[int, int], Pane]] = field(
        default_factory=dict, init=False, compare=False)  # fmt: skip
    """Each panel as it was asked last, of which state and size."""

    @classmethod
    def of(cls, layers: Sequence[Any], known: Sequence[VolumeGiven] = ()) -> VolumeSession:
        """Return a session of volumes or layers of them; ``known`` say where they come from.

        Raises GridMismatch where one does not meet the lowest anywhere.
        """
        given = list(known) or [VolumeGiven(volume_layer(layer)) for layer in layers]
        if not given:
            raise LookError("view: expected at least one volume")
        for one in given[1:]:
            check_meeting(given[0].layer, one.layer)
        low, high = reach(given[0].layer.source.grid)
        middle = as_point((low + high) / 2)
        state = VolumeState(tuple(one.first_shown() for one in given), 0, middle, middle, 1.0)
        planes = whole_planes(given[0].layer.source)
        if len(planes) == 1:  # a single slice, of which other planes are lines
            state = replace(state, panels=1, panel=PANES.index(planes[0]))
        made = cls(given, state)
        made.state = made._whole()
        return made

    @property
    def turn(self) -> F64:
        """The axes that are cut (3x3), in the patient."""
        grid = self.given[0].layer.source.grid
        return own_turn(grid) if self.state.axes == "own" else np.eye(3)

    def pane(self, number: int) -> Pane:
        """Return a panel as it lies now; asked many times of one state."""
        held = self._panes.get(number)
        if held is None or held[0] is not self.state or held[1] != self.size:
            made = Pane.of(self.state, number, self.turn, self.size)
            held = self._panes[number] = (self.state, self.size, made)
        return held[2]

    def layers(self) -> list[VolumeLayer]:
        """Return the layers as they are shown now, the lowest first."""
        return [one.as_shown(shown)
                for one, shown in zip(self.given, self.state.layers, strict=True)]  # fmt: skip

    def change(self, action: Mapping[str, Any]) -> None:
        """Carry out a change. Raises LookError for one that cannot be, and nothing is changed."""
        known: dict[str, Callable[..., VolumeState]] = {
            "look": self._look, "layer": self._layer, "active": self._active, "point": self._point,
            "step": self._step, "zoom": self._zoom, "pan": self._pan, "whole": self._whole,
            "one": self._one_to_one, "goto": self._goto, "planes": self._planes,
            "panel": self._panel, "mark": self._mark, "reset": self._reset,
            "restore": self._restore,
        }  # fmt: skip
        self.change_by(known, action)

    # Changes: each returns another state.

    def _at(self, layer: int | None) -> int:
        number = self.state.active if layer is None else layer
        return count_of("layer", number, len(self.given))

    def _with(self, number: int, shown: ShownVolume) -> VolumeState:
        made = self.given[number].as_shown(shown)  # what cannot be is told now
        count_of("frame", shown.frame - 1, len(made.source.bands))
        layers = (*self.state.layers[:number], shown, *self.state.layers[number + 1 :])
        return replace(self.state, layers=layers)

    def _look(self, layer: int | None = None, **fields: Any) -> VolumeState:
        """Change fields of a look, as a look file has them; None takes one back to its default."""
        number = self._at(layer)
        shown = self.state.layers[number]
        return self._with(number, replace(shown, look=look_with(shown.look, fields)))

    def _layer(self, layer: int | None = None, **fields: Any) -> VolumeState:
        """Change how a layer is shown: opacity, visible, threshold ("" for none), frame (from 1),
        least (voxels of a group), faded.
        """
        number = self._at(layer)
        shown = self.state.layers[number]
        known = ("opacity", "visible", "threshold", "frame", "least", "faded")
        for key, value in fields.items():
            if key not in known:
                raise LookError(f"layer: no {key!r}{nearest(key, known)}")
            if key == "opacity":
                check_opacity(value)
        fields = {key: value or None if key == "threshold" else value
                  for key, value in fields.items()}  # fmt: skip
        return self._with(number, replace(shown, **fields))

    def _active(self, layer: int) -> VolumeState:
        return replace(self.state, active=self._at(layer))

    def _inside(self, point: Any) -> Millimetres:
        """Return a point no further out than the lowest volume reaches."""
        low, high = reach(self.given[0].layer.source.grid)
        return as_point(np.clip(np.array([number_of("point", one) for one in point]), low, high))

    def _point(
        self, column: float | None = None, row: float | None = None, panel: int = 0,
        x: float = 0.0, y: float = 0.0, z: float = 0.0,
    ) -> VolumeState:  # fmt: skip
        """Let the planes meet at x, y, z, or under a position of a panel."""
        if column is None or row is None:
            return replace(self.state, point=self._inside((x, y, z)))
        pane = self.pane(count_of("panel", panel, len(PANES)))
        there = pane.millimetres(number_of("column", column), number_of("row", row))
        return replace(self.state, point=self._inside(there), panel=panel)

    def _step(self, count: float, panel: int | None = None) -> VolumeState:
        """Go so many slices on across a panel: by the spacing of the lowest volume along it."""
        number = self.state.panel if panel is None else count_of("panel", panel, len(PANES))
        normal = self.pane(number).normal
        matrix = self.given[0].layer.source.grid.matrix[:3, :3]
        spacing = np.linalg.norm(matrix, axis=0)
        along = np.abs(normal @ (matrix / spacing))
        step = float(spacing[int(along.argmax())]) * number_of("count", count)
        moved = np.array(self.state.point) + normal * step
        return replace(self.state, point=self._inside(moved), panel=number)

    def _zoom(
        self, factor: float, panel: int = 0, column: float | None = None, row: float | None = None
    ) -> VolumeState:
        """Zoom in by a factor; what lies under a position of a panel stays there."""
        if not 0 < number_of("factor", factor) < 1e6:
            raise LookError(f"factor {factor!r}: expected more than 0")
        pixel = min(max(self.state.pixel / factor, _LEAST), _MOST)
        state = replace(self.state, pixel=pixel)
        if column is None or row is None:
            return state
        pane = self.pane(count_of("panel", panel, len(PANES)))
        here = np.array(pane.millimetres(column, row))
        moved = np.array(state.center) - here
        moved -= (moved @ pane.normal) * pane.normal  # only within the plane
        center = np.array(state.center) + moved * (pixel / self.state.pixel - 1)
        return replace(state, center=as_point(center))

    def _pan(self, columns: float, rows: float, panel: int = 0) -> VolumeState:
        """Move the picture of a panel by so many of its pixels, and the others with it."""
        pane = self.pane(count_of("panel", panel, len(PANES)))
        (along, way), (down, fall) = pane.plane.columns, pane.plane.rows
        moved = pane.turn[:, along] * (way * number_of("columns", columns))
        moved = moved + pane.turn[:, down] * (fall * number_of("rows", rows))
        return replace(self.state, center=as_point(np.array(self.state.center)
                                                   - moved * self.state.pixel))  # fmt: skip

    def _whole(self) -> VolumeState:
        low, high = reach(self.given[0].layer.source.grid)
        extent, (rows, columns) = high - low, self.size
        sides = [max(extent[along] / columns, extent[down] / rows)
                 for _, along, down in PLANES.values()]  # fmt: skip
        return replace(self.state, pixel=float(max(sides)), center=as_point((low + high) / 2))

    def _one_to_one(self) -> VolumeState:
        spacing = np.linalg.norm(self.given[0].layer.source.grid.matrix[:3, :3], axis=0)
        return replace(self.state, pixel=float(spacing.min()), center=self.state.point)

    def _goto(self, text: str) -> VolumeState:
        """Go to x, y, z in mm of the patient, or to voxel i, j, k of the lowest volume."""
        voxel = str(text).strip().lower().startswith("voxel")
        found = _NUMBERS.match(str(text).strip()[5:] if voxel else str(text))
        if found is None:
            raise LookError(f"position {text!r}: expected x, y, z in mm, or voxel i, j, k")
        try:
            place = np.array([float(one) for one in found.groups()])
        except ValueError as error:
            raise LookError(f"position {text!r}: expected three numbers") from error
        if voxel:
            matrix = self.given[0].layer.source.grid.matrix
            place = matrix[:3, :3] @ place + matrix[:3, 3]
        point = self._inside(place)
        self.told = "x {:g}, y {:g}, z {:g} mm".format(*point)
        return replace(self.state, point=point, center=point)

    def _planes(self, **fields: Any) -> VolumeState:
        """Change how planes lie: side, axes, slab (mm), project, turn and tilt of the free one."""
        words: dict[str, Sequence[str]] = {"side": SIDES, "axes": AXES, "project": PROJECTIONS}
        for key, value in fields.items():
            if key in words and value not in words[key]:
                raise LookError(f"{key} {value!r}: expected {', '.join(words[key])}")
            if key in ("slab", "turn", "tilt"):
                fields[key] = number_of(key, value)
            elif key not in words:
                raise LookError(
                    f"planes: no {key!r}{nearest(key, (*words, 'slab', 'turn', 'tilt'))}"
                )
        if not 0 <= fields.get("slab", 0) <= 1000:
            raise LookError(f"slab {fields['slab']}: expected 0 to 1000 mm")
        return replace(self.state, **fields)

    def _panel(self, panel: int | None = None, alone: bool | None = None) -> VolumeState:
        """Move in another panel from now on; ``alone`` shows it without the others."""
        number = self.state.panel if panel is None else count_of("panel", panel, len(PANES))
        panels = self.state.panels if alone is None else 1 if alone else len(PANES)
        return replace(self.state, panel=number, panels=panels)

    def _mark(self, forget: bool = False) -> VolumeState:
        """Mark the point where the planes meet; or forget all marks."""
        if forget:
            return replace(self.state, marks=())
        return replace(self.state, marks=(*self.state.marks[-(_MARKS - 1) :], self.state.point))

    def _reset(self) -> VolumeState:
        """Show the volumes as they came."""
        return replace(self.state, layers=tuple(one.first_shown() for one in self.given))

    # The whole of it as plain values, for an address.

    def to_dict(self) -> dict[str, Any]:
        """Return what is seen as plain values, which ``restore`` takes."""
        state = self.state
        plain = ("active", "pixel", "panel", "panels", "side", "axes", "slab", "project", "turn",
                 "tilt")  # fmt: skip
        found = {key: getattr(state, key) for key in plain}
        found |= {"point": list(state.point), "center": list(state.center)}
        return found | {"layers": [one.to_dict() for one in state.layers]}

    def _restore(
        self, layers: Sequence[Mapping[str, Any]], point: Sequence[float],
        center: Sequence[float], active: int, pixel: float, panel: int, panels: int, **planes: Any,
    ) -> VolumeState:  # fmt: skip
        """Show what ``to_dict`` told."""
        if len(layers) != len(self.given):
            raise LookError(f"restore: {len(layers)} layers of {len(self.given)}")
        made = []
        for one, given in zip(layers, self.given, strict=True):
            shown = ShownVolume.from_dict(one, given.layer.threshold)
            given.as_shown(shown)
            count_of("frame", shown.frame - 1, len(given.layer.source.bands))
            made.append(shown)
        state = self._planes(**planes)
        return replace(
            state, layers=tuple(made), active=self._at(active), point=self._inside(point),
            center=as_point([number_of("center", one) for one in center]),
            pixel=min(max(number_of("pixel", pixel), _LEAST), _MOST),
            panel=count_of("panel", panel, len(PANES)), panels=1 if panels == 1 else len(PANES),
        )  # fmt: skip
