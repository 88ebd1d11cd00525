"""Arrays seen with rows and columns last, whatever order their dimensions are stored in."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.cf.arrays import DEGREES, Variable, companion_name

_STANDARD = {
    kind: (place, *(f"{start}{kind.lower()}_{end}coordinate" for start, end in (
        ("projection_", ""), ("projection_", "angular_"))), f"grid_{place}")
    for kind, place in (("X", "longitude"), ("Y", "latitude"))
}  # fmt: skip
_UNITS = {"X": DEGREES["longitude"], "Y": DEGREES["latitude"]}
_NAMES = {"X": ("x", "lon", "longitude", "easting"), "Y": ("y", "lat", "latitude", "northing")}


class Arranged:
    """A storage whose arrays have the y axis second to last and the x axis last.

    Which they are, their coordinate variables say (CF 1.11, sections 4.1, 4.2 and 5.6). Arrays of
    which that is not known stay as they are stored. Nothing is read for it, and only what is asked
    for is turned.
    """

    def __init__(self, storage: Any) -> None:
        self.storage = storage
        stored: Mapping[str, Variable] = storage.arrays()
        self._orders = {name: _order(stored, array) for name, array in stored.items()}
        self._arrays = {name: _turned(array, self._orders[name]) for name, array in stored.items()}

    def arrays(self) -> Mapping[str, Variable]:
        """Return all arrays by path, arranged."""
        return self._arrays

    def read(self, name: str, where: tuple[Any, ...]) -> NDArray[Any]:
        """Return a part of an array, with its axes as ``arrays`` tells them."""
        order = self._orders[name]
        if order is None:
            return np.asarray(self.storage.read(name, where))
        inside: list[Any] = [slice(None)] * len(order)
        for axis, one in zip(order, where, strict=False):
            inside[axis] = one
        return np.asarray(self.storage.read(name, tuple(inside))).transpose(order)

    def close(self) -> None:
        """Let go of the file."""
        getattr(self.storage, "close", lambda: None)()


def axis_kind(variable: Variable | None, dimension: str) -> str | None:
    """Return X or Y where a coordinate variable, or the dimension's name, says so; else None."""
    if variable is None:
        return None
    said = variable.attributes
    axis = str(said.get("axis", "")).upper()
    if axis in ("X", "Y"):
        return axis
    name, units = str(said.get("standard_name", "")), str(said.get("units", "")).lower()
    for kind in ("X", "Y"):
        if name in _STANDARD[kind] or units in _UNITS[kind]:
            return kind
    if axis or name:
        return None  # something else
    short = dimension.split("/")[-1].lower()
    return next((kind for kind in ("X", "Y") if short in _NAMES[kind]), None)


def _order(arrays: Mapping[str, Variable], variable: Variable) -> tuple[int, ...] | None:
    """Return the stored axis behind each axis of the arranged array; None where none moves."""
    kinds = [axis_kind(_along(arrays, variable, k), name)
             for k, name in enumerate(variable.dimensions)]  # fmt: skip
    if kinds.count("X") != 1 or kinds.count("Y") != 1:
        return None
    last = [kinds.index("Y"), kinds.index("X")]
    order = (*(k for k in range(len(kinds)) if k not in last), *last)
    return None if order == tuple(range(len(kinds))) else order


def _along(arrays: Mapping[str, Variable], variable: Variable, axis: int) -> Variable | None:
    found = companion_name(arrays, variable, variable.dimensions[axis])
    fits = found is not None and found.shape == (variable.shape[axis],)
    return found if fits else None


def _turned(variable: Variable, order: tuple[int, ...] | None) -> Variable:
    if order is None:
        return variable
    return replace(
        variable, shape=tuple(variable.shape[k] for k in order),
        dimensions=tuple(variable.dimensions[k] for k in order),
        chunks=None if variable.chunks is None else tuple(variable.chunks[k] for k in order),
    )  # fmt: skip
