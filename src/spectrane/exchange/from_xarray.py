"""xarray's arrays as rasters and volumes: ours as they were, others by what CF 1.11 says."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.files import HeldFile
from spectrane.engine.lazy_arrays import LazyVolume
from spectrane.exchange.to_xarray import MAP, PATIENT, ROLE, TIME
from spectrane.formats.cf.arranging import Arranged
from spectrane.formats.cf.arrays import VALIDITY, WORDS, Variable, rasters, valid_flag
from spectrane.formats.cf.variables import ArraySourceOnDisk, band_in
from spectrane.formats.sidecar_schema import Sidecar, apply_sidecar, parse_sidecar
from spectrane.model.band import Band
from spectrane.model.errors import ArgumentError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller

_SAME = 1e-6
"""Pixels whose centres are off by this share of one lie where they did."""
_LAZY = ("grid_mapping", "coordinates")
"""What xarray may keep beside the attributes once it has understood it."""


def source_from_xarray(given: Any, *, variable: str | None = None) -> Source:
    """Return a source of a DataArray, or of the one array of numbers in a Dataset.

    Raises ArgumentError for anything else, and for a Dataset of several without ``variable``.
    """
    array = _chosen(given, variable)
    storage = HeldArrays(array)
    if {"i", "j", "k"} <= set(array.dims):
        return _volume(array, storage)
    arranged = Arranged(storage)
    found = rasters({VARIABLE: arranged.arrays()[VARIABLE]})
    if not found:
        raise ArgumentError(f"array: expected two or more axes of numbers, not {array.dims} of "
                            f"{array.dtype}")  # fmt: skip
    source = _Held(HeldFile("", b""), arranged, found[0])
    if MAP in array.coords and "affine" in array.coords[MAP].attrs:
        source.grid, source.geolocation, source.axes = _grid(array), None, ()
    source.bands = _with_roles(source.bands, array, "band")
    return _with_words(source, array)


VARIABLE = "data"


class _Held(ArraySourceOnDisk):
    """Arrays in memory, or computed when asked for."""

    of_file = False
    format = "memory"


class HeldArrays:
    """An array and its coordinates, as the reader of stored arrays sees them."""

    def __init__(self, array: Any) -> None:
        self._held: dict[str, Any] = {VARIABLE: array.variable}
        for name, coordinate in array.coords.items():
            self._held[str(name)] = coordinate.variable
        self.names: Sequence[str] = []
        lead = next((d for d in ("band", "frame") if d in array.coords), None)
        if lead is not None and array.coords[lead].dtype.kind in "UOT":
            self.names = [str(one) for one in array.coords[lead].values]
        self._arrays = {name: self._described(name) for name in self._held}

    def _described(self, name: str) -> Variable:
        held = self._held[name]
        said = {key: held.encoding[key] for key in _LAZY if key in held.encoding} | dict(held.attrs)
        if name == VARIABLE and self.names:  # these are along the array, whatever is left of it
            several = np.size(said.get("band_names", self.names)) > 1  # the whole's is no band's
            passed = ("band_names", *(["long_name"] if several else []))
            said = {key: value for key, value in said.items() if key not in passed}
        chunks = getattr(held.data, "chunksize", None) if name == VARIABLE else None
        dims = tuple(map(str, held.dims))
        return Variable(name, tuple(held.shape), np.dtype(held.dtype), dims, said, chunks)

    def arrays(self) -> Mapping[str, Variable]:
        """Return the array, and what lies along it, by name."""
        return self._arrays

    def read(self, name: str, where: tuple[Any, ...]) -> NDArray[Any]:
        """Return a part, computed where it is not in memory."""
        found = np.array(self._held[name].data[where])  # the caller's own stay as they are
        return np.datetime_as_string(found, unit="auto") if found.dtype.kind == "M" else found


def _chosen(given: Any, variable: str | None) -> Any:
    if hasattr(given, "data_vars"):
        numbers = [str(name) for name, one in given.data_vars.items() if one.ndim >= 2]
        wanted = numbers[0] if variable is None and len(numbers) == 1 else variable
        if wanted not in numbers:
            raise ArgumentError(f"a Dataset with the arrays {', '.join(numbers) or 'none'}: say "
                                "which one as variable=")  # fmt: skip
        return given[wanted]
    if not hasattr(given, "dims") or not hasattr(given, "coords"):
        raise ArgumentError(f"expected an xarray.DataArray, not {type(given).__name__}")
    return given


def _with_roles(bands: Sequence[Band], array: Any, lead: str) -> tuple[Band, ...]:
    if ROLE not in array.coords:
        return tuple(bands)
    roles = [str(one) or None for one in np.atleast_1d(array.coords[ROLE].values)]
    if len(roles) != len(bands):
        return tuple(bands)
    return tuple(replace(band, role=role) for band, role in zip(bands, roles, strict=True))


def _with_words(source: Source, array: Any) -> Source:
    """Return a source with what attributes of ours say, of the bands that are still there."""
    words = array.attrs.get(WORDS)
    if not isinstance(words, str):
        return source
    beside: Sidecar = parse_sidecar(words, f"attribute {WORDS}")
    before = [str(one) for one in np.atleast_1d(array.attrs.get("band_names", ()))]
    left = [band.name for band in source.bands]
    kept = []
    for table in beside.bands:
        name = before[table.number - 1] if table.number <= len(before) else None
        if name in left:
            kept.append(table.model_copy(update={"number": left.index(name) + 1}))
    return apply_sidecar(source, beside.model_copy(update={"bands": kept}))


def _volume(array: Any, storage: HeldArrays) -> Source:
    ordered = array if "frame" in array.dims else array.expand_dims("frame")
    others = [str(one) for one in ordered.dims if one not in ("frame", "i", "j", "k")]
    if others:
        raise ArgumentError(f"array: expected frame, i, j, k, not {', '.join(array.dims)}")
    ordered = ordered.transpose("frame", "i", "j", "k")
    described = storage.arrays()[VARIABLE]
    names = list(storage.names) or [f"frame {k + 1}" for k in range(ordered.shape[0])]
    bands = [band_in(described, name) for name in names]
    if TIME in array.coords and array.coords[TIME].dims == ("frame",):
        times = [float(one) if np.isfinite(one) else None for one in array.coords[TIME].values]
        bands = [replace(band, time=time) for band, time in zip(bands, times, strict=True)]
    valid = None
    if VALIDITY in ordered.coords:
        flags = storage.arrays()[VALIDITY]
        held = ordered.coords[VALIDITY].transpose("frame", "i", "j", "k").data
        valid = held == valid_flag(flags)
    source = LazyVolume(ordered.data, grid=_voxels(array, ordered.shape[1:]), bands=bands,
                        valid=valid)  # fmt: skip
    return _with_words(source, array)


def _voxels(array: Any, shape: tuple[int, ...]) -> Grid:
    """Return where voxels lie, also of a part that was cut out or turned along its axes."""
    if PATIENT not in array.coords or "affine" not in array.coords[PATIENT].attrs:
        raise MetadataError(f"array: a volume needs the coordinate {PATIENT!r}, whose attribute "
                            "affine holds 16 numbers, row by row")  # fmt: skip
    said = np.asarray(array.coords[PATIENT].attrs["affine"], float)
    if said.size != 16:
        raise MetadataError(f"affine: expected 16 numbers, row by row, not {said.size}")
    matrix = said.reshape(4, 4)
    turn = np.eye(4)
    for axis, (name, length) in enumerate(zip("ijk", shape, strict=True)):
        start, step = _even(array, name, length)
        turn[axis, axis], turn[axis, 3] = step, start
    return Grid(shape, tuple(map(tuple, (matrix @ turn).tolist())), placed=True)


def _even(array: Any, name: str, length: int) -> tuple[float, float]:
    """Return where an index begins and its step. Raises MetadataError where it is uneven."""
    if name not in array.coords:
        return 0.0, 1.0
    places = np.asarray(array.coords[name].values, float)
    step = float(places[1] - places[0]) if length > 1 else 1.0
    if length > 1 and not np.allclose(np.diff(places), step):
        raise MetadataError(f"array: its {name} are not evenly spaced")
    return float(places[0]), step


def _grid(array: Any) -> Grid:
    """Return the grid that our mapping says, moved to the pixels that are left of it."""
    said = array.coords[MAP].attrs
    matrix = np.asarray(said["affine"], float).reshape(3, 3)
    system = said.get("crs") or said.get("crs_wkt")
    shape = (array.sizes["y"], array.sizes["x"])
    moved = _moved(array, matrix, shape)
    if moved is None:
        warn_caller("array: its pixels are not evenly spaced, so it has no place on a grid")
        return Grid(shape, crs_text=system)
    return Grid(shape, tuple(map(tuple, moved.tolist())), system, y_up=bool(said.get("y_up", 0)),
                placed=bool(said.get("placed", 1)), crs_name=said.get("crs_name"))  # fmt: skip


def _moved(
    array: Any, matrix: NDArray[np.float64], shape: tuple[int, int]
) -> NDArray[np.float64] | None:
    """Return the affine of what is left of a grid; None where pixels are not evenly spaced."""
    back = np.linalg.inv(matrix)
    if "xc" in array.coords and "yc" in array.coords:
        x, y = (np.asarray(array.coords[name].values, float) for name in ("xc", "yc"))
        columns, rows = (back[k, 0] * x + back[k, 1] * y + back[k, 2] for k in (0, 1))
        across, down = columns[0, :], rows[:, 0]
        level = np.allclose(columns, across, atol=_SAME) and np.allclose(
            rows, down[:, np.newaxis], atol=_SAME)  # fmt: skip
        if not level:
            return None
    elif "x" in array.coords and "y" in array.coords:
        x, y = (np.asarray(array.coords[name].values, float) for name in ("x", "y"))
        across = back[0, 0] * x + back[0, 2]
        down = back[1, 1] * y + back[1, 2]
    else:
        return matrix
    turn = np.eye(3)
    for axis, centres in enumerate((across, down)):
        step = float(centres[-1] - centres[0]) / (len(centres) - 1) if len(centres) > 1 else 1.0
        if not np.allclose(centres, centres[0] + step * np.arange(len(centres)), atol=_SAME):
            return None
        step = float(round(step)) if abs(step - round(step)) < _SAME and round(step) else step
        start = float(centres[0]) - step / 2
        turn[axis, axis] = step
        turn[axis, 2] = round(start * 2) / 2 if abs(start * 2 - round(start * 2)) < _SAME else start
    return np.asarray(matrix @ turn)
