"""From coordinate variables to a grid and to names of planes (CF 1.11, sections 4 and 5)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.cf.arrays import Variable, companion_name
from spectrane.model.grid import Grid
from spectrane.model.telling import warn_caller

Axis = tuple[NDArray[np.float64], dict[str, Any]] | None
_UNEVEN = 1e-3
"""Coordinates may be off an even grid by this share of a step."""
_TO_NM = {"nm": 1.0, "nanometer": 1.0, "nanometre": 1.0, "nanometers": 1.0, "um": 1000.0,
          "µm": 1000.0, "micrometer": 1000.0, "micrometre": 1000.0, "micron": 1000.0,
          "microns": 1000.0, "m": 1e9, "meter": 1e9, "metre": 1e9}  # fmt: skip


def grid_from_axes(
    name: str, shape: tuple[int, int], y: Axis, x: Axis, mapping: Mapping[str, Any]
) -> Grid:
    """Return the grid of even y and x coordinates (centres of pixels), placed by them.

    Warns where they are not even, and answers a grid without a place.
    """
    crs = _crs(mapping, y, x)
    if y is None or x is None:
        return Grid(shape, crs_text=crs)
    steps = [_even_step(values) for values, _ in (y, x)]
    dy, dx = steps
    # A single row or column says nothing of its height or width: pixels are taken for square.
    if dy is None and shape[0] == 1 and dx is not None:
        dy = -abs(dx)
    if dx is None and shape[1] == 1 and dy is not None:
        dx = abs(dy)
    if dy is None or dx is None:
        warn_caller(
            f"{name}: its coordinates are not evenly spaced, so it has no place on a regular grid"
        )
        return Grid(shape, crs_text=crs)
    factor = [_in_metres(attributes, crs) for _, attributes in (y, x)]
    top, left = (y[0][0] - dy / 2) * factor[0], (x[0][0] - dx / 2) * factor[1]
    affine = ((dx * factor[1], 0.0, left), (0.0, dy * factor[0], top), (0.0, 0.0, 1.0))
    return Grid(shape, affine, crs, y_up=True, placed=True, crs_name=_crs_name(mapping))


def _even_step(values: NDArray[np.float64]) -> float | None:
    if len(values) < 2 or not np.isfinite(values).all():
        return None
    step = float((values[-1] - values[0]) / (len(values) - 1))
    even = values[0] + step * np.arange(len(values))
    return step if step != 0 and np.abs(values - even).max() <= _UNEVEN * abs(step) else None


def _in_metres(attributes: Mapping[str, Any], crs: str | None) -> float:
    units = str(attributes.get("units", "")).strip()
    return 1000.0 if units in ("km", "kilometer", "kilometre") and crs else 1.0


def _crs(mapping: Mapping[str, Any], y: Axis, x: Axis) -> str | None:
    for key in ("crs_wkt", "spatial_ref", "epsg_code", "crs"):
        text = mapping.get(key)
        if isinstance(text, str) and text.strip():
            return _short(text.strip())
        if isinstance(text, int):
            return f"EPSG:{text}"
    if mapping.get("grid_mapping_name"):
        return _from_cf(mapping)
    degrees = [str(axis[1].get("units", "")) if axis else "" for axis in (y, x)]
    if degrees[0].startswith("degree") and "north" in degrees[0] and "east" in degrees[1]:
        return "EPSG:4326"
    return None


def _short(text: str) -> str:
    """Return a code where the text names one, else the text."""
    if not text.startswith(("PROJ", "GEOG", "COMPD", "BOUND")):
        return text
    import pyproj

    try:
        code = pyproj.CRS.from_wkt(text).to_epsg()
    except pyproj.exceptions.CRSError:
        return text
    return f"EPSG:{code}" if code else text


def _from_cf(mapping: Mapping[str, Any]) -> str | None:
    import pyproj

    try:
        system = pyproj.CRS.from_cf(dict(mapping))
    except (pyproj.exceptions.CRSError, KeyError, TypeError, ValueError):
        return str(mapping["grid_mapping_name"])
    code = system.to_epsg()
    return f"EPSG:{code}" if code else str(system.to_wkt())


def _crs_name(mapping: Mapping[str, Any]) -> str | None:
    for key in ("projected_crs_name", "geographic_crs_name", "long_name"):
        if isinstance(mapping.get(key), str) and mapping[key] != "unknown":
            return str(mapping[key])
    return None


def named_planes(
    read: Any, arrays: Mapping[str, Variable], variable: Variable
) -> list[tuple[str, float | None]]:
    """Name the planes of leading dimensions by their coordinates; wavelengths in nm where told."""
    labels: list[list[str]] = []
    waves: list[float | None] = [None] * variable.bands
    lead = len(variable.shape) - 2
    for place in range(lead):
        dimension, count = variable.dimensions[place], variable.shape[place]
        found = companion_name(arrays, variable, dimension)
        values = None
        if found is not None and found.shape == (count,):
            values = read(found.name, (slice(None),))
        labels.append(_labels(dimension, count, values, found))
        if lead == 1:
            waves = _wavelengths(read, arrays, variable, dimension, count) or waves
    names: Sequence[str] = [""]
    for one in labels:
        names = [f"{before}, {label}".lstrip(", ") for before in names for label in one]
    return list(zip(names, waves, strict=True))


def own_wavelength(read: Any, arrays: Mapping[str, Variable], variable: Variable) -> float | None:
    """Return the wavelength (nm) of an array without planes: a coordinate of a single number."""
    for name in str(variable.attributes.get("coordinates", "")).split():
        found = companion_name(arrays, variable, name)
        if found is not None and found.shape in ((), (1,)):
            values = _in_nanometres(read(found.name, (...,)), found)
            if values is not None:
                return values[0]
    return None


def _in_nanometres(values: Any, found: Variable) -> list[float | None] | None:
    """Return wavelengths in nm, None for those unknown; None for what is none."""
    if found.dtype.kind not in "iuf":
        return None
    said = f"{found.name} {found.attributes.get('standard_name', '')}"
    factor = _TO_NM.get(str(found.attributes.get("units", "")).strip())
    if factor is None or "wavelength" not in said:
        return None
    waves = np.atleast_1d(values).astype(float) * factor
    return [float(f"{v:.10g}") if np.isfinite(v) and v > 0 else None for v in waves]


def _labels(dimension: str, count: int, values: Any, found: Variable | None) -> list[str]:
    if values is None:
        return [f"{dimension} {k}" for k in range(1, count + 1)]
    if np.asarray(values).dtype.kind in "SUO":
        return [v.decode("utf-8", "replace") if isinstance(v, bytes) else str(v) for v in values]
    units = str(found.attributes.get("units", "")) if found is not None else ""
    if " since " in units:
        return [_date(float(v), units) for v in values]
    return [f"{dimension} {float(v):.8g} {units}".strip() for v in values]


def _date(value: float, units: str) -> str:
    """Say a time as a date where its units can be read."""
    import datetime

    step, _, start = units.partition(" since ")
    seconds = {"s": 1, "sec": 1, "second": 1, "seconds": 1, "min": 60, "minute": 60, "minutes": 60,
               "h": 3600, "hour": 3600, "hours": 3600, "d": 86400, "day": 86400,
               "days": 86400}.get(step.strip().lower())  # fmt: skip
    try:
        begin = datetime.datetime.fromisoformat(start.strip().removesuffix("UTC").strip())
        assert seconds is not None
        moment = begin + datetime.timedelta(seconds=value * seconds)
    except (ValueError, AssertionError, OverflowError):
        return f"{value:g} {units}"
    return moment.isoformat(sep=" ").removesuffix(" 00:00:00")


def _wavelengths(
    read: Any, arrays: Mapping[str, Variable], variable: Variable, dimension: str, count: int
) -> list[float | None] | None:
    for name in dict.fromkeys((dimension, "wavelength", "radiation_wavelength")):
        found = companion_name(arrays, variable, name)
        if found is None or found.shape != (count,) or found.dtype.kind not in "iuf":
            continue
        waves = _in_nanometres(read(found.name, (slice(None),)), found)
        if waves is not None:
            return waves
    return None
