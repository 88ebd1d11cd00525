"""Any plane through a volume: by a point and a normal, or by three points."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.patient import letters_of, reach
from spectrane.model.source import Source
from spectrane.spatial.slicing import SIDES, Slice, SlicePlane, seen_along

F64 = NDArray[np.float64]
_ALONG = 0.9
"""A normal nearer to the head than this has the front at the top of its picture."""
_LEVEL = 0.02
"""A smaller share of a direction does not tell left from right."""


@record(frozen=True)
class Oblique:
    """A plane through ``center`` (x, y, z in mm of the patient) square to ``normal``.

    ``up`` is what points upward in the picture, as far as it lies in the plane: the head, or the
    front where the plane is nearly axial. Which way the normal points makes no difference: the
    patient's right is on the left of a radiological picture, and of one without left and right the
    front. Raises LookError for three numbers that are none, and directions without a length.

    >>> Oblique((0, 0, 5), (0, 0, 2)).turn.round(6).tolist()
    [[1.0, 0.0, 0.0], [0.0, 1.0, 0.0], [0.0, 0.0, 1.0]]
    """

    center: Sequence[float]
    normal: Sequence[float]
    up: Sequence[float] | None = None

    def __post_init__(self) -> None:
        """Check the numbers."""
        _vector("center", self.center)
        if not np.linalg.norm(_vector("normal", self.normal)) > 0:
            raise LookError(f"normal {tuple(self.normal)}: expected a direction, not nothing")
        up = self._up()
        long = float(np.linalg.norm(up))
        if not long or float(np.linalg.norm(np.cross(up, self._normal()))) < 1e-6 * long:
            raise LookError(f"up {self.up}: expected a direction that is not across the plane")

    @classmethod
    def through(
        cls, points: Sequence[Sequence[float]], up: Sequence[float] | None = None
    ) -> Oblique:
        """Return the plane through three points, about their middle.

        >>> Oblique.through([(0, 0, 1), (4, 0, 1), (0, 4, 1)]).normal
        (0.0, 0.0, 1.0)
        """
        if len(points) != 3:
            raise LookError(f"through {len(points)} points: expected three")
        a, b, c = (_vector("through", point) for point in points)
        across = np.cross(b - a, c - a)
        length = float(np.linalg.norm(across))
        if length < 1e-9 * float(np.linalg.norm(b - a) * np.linalg.norm(c - a)) or not length:
            raise LookError("through: the three points lie on a line; any plane holds it")
        x, y, z = (across / length).tolist()
        return cls(tuple(((a + b + c) / 3).tolist()), (x, y, z), up)

    def __str__(self) -> str:
        """Say where it lies: for captions."""
        through, normal = (", ".join(f"{value + 0.0:.3g}" for value in values)
                           for values in (self.center, self.turn[:, 2].tolist()))  # fmt: skip
        return f"oblique through {through} mm, square to {normal}"

    def _normal(self) -> F64:
        normal = _vector("normal", self.normal)
        return np.asarray(normal / np.linalg.norm(normal))

    def _up(self) -> F64:
        if self.up is not None:
            return _vector("up", self.up)
        axial = abs(self._normal()[2]) > _ALONG
        return np.array([0.0, 1.0, 0.0] if axial else [0.0, 0.0, 1.0])

    @property
    def turn(self) -> F64:
        """The plane's axes in the patient (3x3): across its picture, up, and the normal."""
        normal, up = self._normal(), self._up()
        up = up - (up @ normal) * normal
        up = up / np.linalg.norm(up)
        across = np.cross(up, normal)
        telling = 0 if abs(across[0]) > _LEVEL else 1
        if across[telling] < 0:  # else the patient's left, or the back, would be on the left
            normal, across = -normal, -across
        return np.stack([across, up, normal], axis=1) + 0.0

    @property
    def at(self) -> float:
        """Where along the normal it lies, in mm."""
        return float(self.turn[:, 2] @ _vector("center", self.center))

    def plane(self, side: str = SIDES[0]) -> SlicePlane:
        """Return how its picture lies, with the letters of the sides that it leads to.

        >>> Oblique((0, 0, 0), (0, 0, 1)).plane().labels["left"]
        'R'
        """
        turn = self.turn
        sided = side if abs(turn[0, 0]) > _LEVEL else SIDES[0]
        plane = SlicePlane.of("axial", sided)
        right, below = turn[:, 0] * plane.columns[1], turn[:, 1] * plane.rows[1]
        return replace(plane, name="oblique", letters={
            "left": letters_of(-right), "right": letters_of(right),
            "top": letters_of(-below), "bottom": letters_of(below),
        })  # fmt: skip


def _vector(name: str, given: Any) -> F64:
    try:
        found = np.array(given, np.float64)
    except (TypeError, ValueError):
        found = np.zeros(0)
    if found.shape != (3,) or not np.isfinite(found).all():
        raise LookError(f"{name} {given!r}: expected x, y, z in mm of the patient")
    return found


def oblique_asked(
    plane: str, oblique: Oblique | None, *, at: float | None = None, index: int | None = None,
    axes: str = "patient",
) -> bool:  # fmt: skip
    """Tell whether the free plane is asked for. Raises LookError where what is said of it does not
    go together.
    """
    if (plane == "oblique") != (oblique is not None):
        raise LookError("slice: plane 'oblique' goes with oblique=Oblique(center, normal), or "
                        "Oblique.through three points; other planes do without")  # fmt: skip
    if oblique is not None and (at is not None or index is not None or axes != "patient"):
        raise LookError("slice: an oblique plane lies where its center is: leave out at, index and "
                        "axes")  # fmt: skip
    return oblique is not None


def cut_oblique(
    volume: Source, oblique: Oblique, *, frames: Sequence[int] = (), side: str = SIDES[0],
    slab: float = 0.0, project: str = "maximum", resample: str | None = None,
) -> Source:  # fmt: skip
    """Return the slice of a volume in any plane, or a slab about it: see ``slicing.cut``.

    Raises GridMismatch for a plane that does not meet the volume.
    """
    turned = seen_along(volume, oblique.turn)
    low, high = reach(turned.grid)
    if not low[2] <= oblique.at <= high[2]:
        raise GridMismatch(f"the plane through {tuple(oblique.center)} mm square to "
                           f"{tuple(oblique.normal)} does not meet the volume")  # fmt: skip
    plane = oblique.plane(side)
    made = Slice(turned, plane, oblique.at, frames=frames, slab=slab, project=project,
                 resample=resample)  # fmt: skip
    made.metadata = {"slice": {
        "plane": "oblique", "center": list(oblique.center), "normal": oblique.turn[:, 2].tolist(),
        "at": oblique.at, "slab": slab, "labels": plane.labels,
    }}  # fmt: skip
    return made
