"""What a live view of volumes shows, as plain frozen state, and where its planes lie."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import asdict, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.volume_layers import VolumeLayer
from spectrane.kernels.records import record
from spectrane.model.band import find_bands
from spectrane.model.errors import LookError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.patient import letters_of
from spectrane.spatial.oblique import Oblique
from spectrane.spatial.slicing import PLANES, SIDES, PlaneName, SlicePlane

F64 = NDArray[np.float64]
Millimetres = tuple[float, float, float]
PANES: tuple[str, ...] = (*PLANES, "oblique")
"""The panels: three planes of the patient, and a free one."""


@record(frozen=True)
class ShownVolume:
    """How one volume is shown."""

    look: Look
    opacity: float = 1.0
    visible: bool = True
    threshold: Any = None
    frame: int = 1
    least: float = 0.0
    faded: float = 0.0

    def to_dict(self) -> dict[str, Any]:
        """Return plain values, which ``from_dict`` takes, where the threshold is an expression."""
        return asdict(replace(self, look=Look(), threshold=None)) | {
            "look": self.look.to_dict(),
            "threshold": self.threshold if isinstance(self.threshold, str) else None,
        }

    @classmethod
    def from_dict(cls, given: Mapping[str, Any], threshold: Any = None) -> ShownVolume:
        """Return what ``to_dict`` told; ``threshold`` stands for one that it could not."""
        try:
            fields = dict(given)
            fields["threshold"] = fields.get("threshold") or threshold
            return cls(Look.from_dict(fields.pop("look", {})), **fields)
        except (TypeError, ValueError) as error:
            raise LookError(f"layer {given!r}: {error}") from error


@record(frozen=True)
class VolumeState:
    """Everything that a change changes.

    ``point`` is where the planes meet, ``center`` what lies in the middle of the panels, both in mm
    of the patient; ``pixel`` is a picture pixel in mm. ``turn`` and ``tilt`` (degrees, about the
    patient's z and x) lay the free plane. ``panel`` is the one that keys move in, ``panels`` 4, or
    1 to show that one alone.
    """

    layers: tuple[ShownVolume, ...]
    active: int
    point: Millimetres
    center: Millimetres
    pixel: float
    panel: int = 0
    panels: int = 4
    side: str = SIDES[0]
    axes: str = "patient"
    slab: float = 0.0
    project: str = "maximum"
    turn: float = 0.0
    tilt: float = 45.0
    marks: tuple[Millimetres, ...] = ()

    @property
    def shown(self) -> tuple[int, ...]:
        """The panels that are to be seen."""
        return tuple(range(len(PANES))) if self.panels > 1 else (self.panel,)


@record(frozen=True)
class VolumeGiven:
    """A volume layer as it was given, and where it comes from: a file and what it is for."""

    layer: VolumeLayer
    file: str | None = None
    role: str = "anatomy"
    """``anatomy``, ``map`` or ``labels``."""
    words: tuple[str, ...] = ()
    """Options that open it, and of a map those of its test."""

    def first_shown(self) -> ShownVolume:
        """Return how it is shown as it came."""
        layer = self.layer
        frame = find_bands(layer.source.bands, layer.frame)[0] + 1
        return ShownVolume(layer.look or layer.source.look or Look(), layer.opacity, layer.visible,
                           layer.threshold, frame, layer.least, layer.faded)  # fmt: skip

    def as_shown(self, shown: ShownVolume) -> VolumeLayer:
        """Return the layer as it is shown."""
        return replace(
            self.layer, look=shown.look, opacity=shown.opacity, visible=shown.visible,
            threshold=shown.threshold, frame=shown.frame,
            least=shown.least if shown.threshold is not None else 0.0,
            faded=shown.faded if shown.threshold is not None else 0.0,
        )  # fmt: skip


@record(frozen=True)
class Pane:
    """A panel's plane: its axes in the patient (3x3: ``turn``), and its pixels on it."""

    name: str
    cut: PlaneName
    plane: SlicePlane
    turn: F64
    grid: Grid
    at: float

    @classmethod
    def of(cls, state: VolumeState, number: int, own: F64, size: tuple[int, int]) -> Pane:
        """Return a panel of a state; ``own`` (3x3) are the axes that are cut, in the patient."""
        name = PANES[number]
        cut: PlaneName = "axial" if name == "oblique" else name  # type: ignore[assignment]
        turn, plane = own, SlicePlane.of(cut, state.side)
        if name == "oblique":
            free = free_plane(state, own)
            turn, plane = free.turn, free.plane(state.side)
        middle, point = turn.T @ np.array(state.center), turn.T @ np.array(state.point)
        (along, way), (down, fall) = plane.columns, plane.rows
        rows, columns = size
        x = middle[along] - way * state.pixel * columns / 2
        y = middle[down] - fall * state.pixel * rows / 2
        affine = ((way * state.pixel, 0.0, float(x)), (0.0, fall * state.pixel, float(y)),
                  (0.0, 0.0, 1.0))  # fmt: skip
        return cls(name, cut, plane, turn, Grid((rows, columns), affine, y_up=True),
                   float(point[plane.across]))  # fmt: skip

    def millimetres(self, column: float, row: float) -> Millimetres:
        """Return the patient's x, y, z under a position of the panel."""
        x, y = self.grid.to_map(float(column), float(row))
        there = np.zeros(3)
        there[self.plane.columns[0]], there[self.plane.rows[0]] = x, y
        there[self.plane.across] = self.at
        return as_point(self.turn @ there)

    def position(self, point: Millimetres) -> tuple[float, float]:
        """Return the column and row at which a point lies, or above which it hovers."""
        there = self.turn.T @ np.array(point)
        column, row = self.grid.from_map(float(there[self.plane.columns[0]]),
                                         float(there[self.plane.rows[0]]))  # fmt: skip
        return float(column), float(row)

    @property
    def normal(self) -> F64:
        """The direction across the plane, in the patient."""
        return np.asarray(self.turn[:, self.plane.across])

    @property
    def letters(self) -> dict[str, str]:
        """The letters of the patient's sides at the edges: see ``letters_of``."""
        if self.plane.letters is not None:
            return dict(self.plane.letters)
        (along, way), (down, fall) = self.plane.columns, self.plane.rows
        right, below = self.turn[:, along] * way, self.turn[:, down] * fall
        return {"left": letters_of(-right), "right": letters_of(right),
                "top": letters_of(-below), "bottom": letters_of(below)}  # fmt: skip


def free_plane(state: VolumeState, own: F64) -> Oblique:
    """Return the free plane of a state; ``own`` (3x3) are the axes that are cut, in the patient."""
    axes = own @ free_turn(state.turn, state.tilt)
    return Oblique(state.point, axes[:, 2].tolist(), axes[:, 1].tolist())


def free_turn(turn: float, tilt: float) -> F64:
    """Return the axes of the free plane (3x3): tilted about x, then turned about z, in degrees.

    >>> free_turn(0, 0).tolist() == np.eye(3).tolist()
    True
    """
    a, b = np.radians(turn), np.radians(tilt)
    about_z = np.array([[np.cos(a), -np.sin(a), 0], [np.sin(a), np.cos(a), 0], [0, 0, 1]])
    about_x = np.array([[1, 0, 0], [0, np.cos(b), -np.sin(b)], [0, np.sin(b), np.cos(b)]])
    return np.asarray(about_z @ about_x)


def as_point(values: Any) -> Millimetres:
    """Return three plain numbers."""
    x, y, z = (float(value) for value in values)
    return x, y, z
