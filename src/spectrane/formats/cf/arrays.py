"""Stored arrays by name, as netCDF, HDF5 and Zarr have them alike."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np


@dataclass(frozen=True)
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
    found = [v for v in arrays.values() if v.is_raster and v.name.split("/")[-1] not in helpers]
    coordinates = {name for v in found for name in str(v.attributes.get("coordinates", "")).split()}
    plain = [v for v in found if v.name.split("/")[-1] not in coordinates]
    return plain or found


def beside(arrays: Mapping[str, Variable], variable: Variable, name: str) -> Variable | None:
    """Return the array of a name in the variable's group, or in one above it."""
    parts = variable.name.split("/")[:-1]
    while True:
        found = arrays.get("/".join([*parts, name]))
        if found is not None or not parts:
            return found
        parts.pop()
