"""Two-dimensional longitudes and latitudes of an array (CF 1.11, section 5.2)."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from spectrane.formats.cf.arrays import DEGREES, Variable, companion_name
from spectrane.model.geolocation import F64, Geolocation
from spectrane.model.window import Window

_NAMES = {
    "longitude": ("lon", "longitude", "longitudes"),
    "latitude": ("lat", "latitude", "latitudes"),
}
TOLD = ("a swath: each pixel has a longitude and a latitude of its own; regrid (spectrane export "
        "--crs EPSG:CODE) brings it to a map")  # fmt: skip


class StoredGeolocation(Geolocation):
    """Longitude and latitude as arrays of the file that an array lies in."""

    def __init__(self, source: Any, longitude: Variable, latitude: Variable) -> None:
        self.source, self.longitude, self.latitude = source, longitude, latitude
        self.shape = longitude.shape

    def read(self, window: Window) -> tuple[F64, F64]:
        """Return degrees; NaN for fill and what lies off the earth."""
        longitude, latitude = self._degrees(self.longitude, window), self._degrees(
            self.latitude, window)  # fmt: skip
        with np.errstate(invalid="ignore"):
            known = (np.abs(latitude) <= 90) & (np.abs(longitude) <= 360)
        return np.where(known, longitude, np.nan), np.where(known, latitude, np.nan)

    def _degrees(self, variable: Variable, window: Window) -> F64:
        where = tuple(slice(*pair) for pair in window)
        stored = np.asarray(self.source.storage.read(variable.name, where))
        said = variable.attributes
        values = stored.astype(np.float64)
        for key in ("_FillValue", "missing_value"):
            fill = said.get(key)
            if fill is not None and np.asarray(fill).dtype.kind in "iuf":
                values[np.isin(stored, np.atleast_1d(fill))] = np.nan
        scale, offset = (float(said.get(key, default)) for key, default in (
            ("scale_factor", 1.0), ("add_offset", 0.0)))  # fmt: skip
        return values * scale + offset

    def __reduce__(self) -> tuple[Any, ...]:
        return _of, (self.source,)


def _of(source: Any) -> Any:
    return source.geolocation


def geolocation_of(source: Any, arrays: Mapping[str, Variable]) -> StoredGeolocation | None:
    """Return where the pixels of an array lie: by its coordinates, else by arrays beside it.

    Arrays beside it must say by units or standard name that they are degrees.
    """
    variable: Variable = source.variable
    named = str(variable.attributes.get("coordinates", "")).split()
    listed = [one for name in named if (one := companion_name(arrays, variable, name)) is not None]
    if not named:
        group = variable.name.rpartition("/")[0]
        listed = [array for array in arrays.values() if array.name.rpartition("/")[0] == group]
    shape = variable.shape[-2:]
    found = {}
    for kind in _NAMES:
        fits = [array for array in listed if array.shape == shape and array.dtype.kind in "iuf"
                and _is(array, kind, by_name=bool(named))]  # fmt: skip
        if len(fits) != 1:
            return None
        found[kind] = fits[0]
    return StoredGeolocation(source, found["longitude"], found["latitude"])


def _is(variable: Variable, kind: str, *, by_name: bool) -> bool:
    said = variable.attributes
    if said.get("standard_name"):
        return str(said["standard_name"]) == kind
    if said.get("units"):
        return str(said["units"]).lower() in DEGREES[kind]
    return by_name and variable.name.split("/")[-1].lower() in _NAMES[kind]
