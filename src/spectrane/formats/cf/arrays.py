"""Stored arrays by name, as netCDF, HDF5 and Zarr have them alike."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import field
from typing import Any

import numpy as np

from spectrane.kernels.records import record

VALIDITY = "validity"
FLAGS = {"long_name": "whether a number was measured", "standard_name": "status_flag",
         "flag_values": [0, 1], "flag_meanings": "invalid valid"}  # fmt: skip
"""The variable that keeps a mask, as flags of an ancillary variable (CF 1.11, 3.4 and 3.5)."""
WORDS = "spectrane"
"""The attribute that holds, as a sidecar's text, what CF has no attribute for."""
DEGREES = {
    place: tuple(f"{start}{end}" for start in ("degree", "degrees") for end in (f"_{far}", *short))
    for place, far, short in (("longitude", "east", ("_e", "e")),
                              ("latitude", "north", ("_n", "n")))
}  # fmt: skip
"""The units that say which of both a coordinate is, in small letters (CF 1.11, 4.1 and 4.2)."""


@record(frozen=True)
class Variable:
    """One stored array: its dimensions' names, attributes, and chunks."""

    name: str
    shape: tuple[int, ...]
    dtype: np.dtype[Any]
    dimensions: tuple[str, ...]
    attributes: dict[str, Any] = field(default_factory=dict)
    chunks: tuple[int, ...] | None = None
    fill: Any = None

    @property
    def is_raster(self) -> bool:
        """Whether it has rows and columns of numbers."""
        numeric = self.dtype.kind in "biuf" and self.dtype.itemsize <= 8
        return numeric and len(self.shape) >= 2 and min(self.shape) >= 1

    @property
    def bands(self) -> int:
        """How many planes the leading dimensions make."""
        return int(np.prod(self.shape[:-2], dtype=object))


def rasters(arrays: Mapping[str, Variable]) -> list[Variable]:
    """Return the arrays that are rasters, leaving out bounds and coordinates of others."""
    helpers = {
        str(variable.attributes[key]) for variable in arrays.values() for key in ("bounds",)
        if key in variable.attributes
    }  # fmt: skip
    variables = [v for v in arrays.values() if v.is_raster and v.name.split("/")[-1] not in helpers]
    coordinates = {
        name for v in variables for name in str(v.attributes.get("coordinates", "")).split()
    }
    plain = [v for v in variables if v.name.split("/")[-1] not in coordinates]
    masks = {mask.name for v in plain if (mask := validity_of(arrays, v)) is not None}
    shown = [v for v in plain if v.name not in masks]
    return [v for v in shown if not _is_position(v)] or shown or variables


def _is_position(variable: Variable) -> bool:
    """Tell whether numbers are the latitudes or longitudes of other arrays' pixels."""
    said = variable.attributes
    places = ("latitude", "longitude")
    if said.get("standard_name"):
        return str(said["standard_name"]) in places
    return variable.name.split("/")[-1].lower() in (*places, "lat", "lon") and str(
        said.get("units", "")).startswith("degree")  # fmt: skip


def validity_of(arrays: Mapping[str, Variable], variable: Variable) -> Variable | None:
    """Return the ancillary variable whose flags are just valid and invalid, if there is one."""
    for name in str(variable.attributes.get("ancillary_variables", "")).split():
        found = companion_name(arrays, variable, name)
        if found is None or found.dtype.kind not in "iu" or len(found.shape) < 2:
            continue
        fits = found.shape in (variable.shape, variable.shape[-2:])
        if fits and valid_flag(found) is not None:
            return found
    return None


def valid_flag(variable: Variable) -> int | None:
    """Return the number that means valid, where the flags are just valid and invalid."""
    meanings = str(variable.attributes.get("flag_meanings", "")).split()
    values = np.atleast_1d(variable.attributes.get("flag_values", ()))
    if sorted(meanings) != ["invalid", "valid"] or len(values) != 2:
        return None
    return int(values[meanings.index("valid")])


def companion_name(
    arrays: Mapping[str, Variable], variable: Variable, name: str
) -> Variable | None:
    """Return the array of a name in the variable's group, or in one above it."""
    parts = variable.name.split("/")[:-1]
    while True:
        found = arrays.get("/".join([*parts, name]))
        if found is not None or not parts:
            return found
        parts.pop()
