"""Rasters and volumes as xarray's DataArray, with coordinates and attributes by CF 1.11."""

from __future__ import annotations

from typing import Any

import numpy as np

from spectrane.engine.described import Described
from spectrane.exchange.dask_arrays import Chunks, dask_array
from spectrane.exchange.filled import SourceArray, as_arrays_have
from spectrane.exchange.libraries import library
from spectrane.formats.cf.arrays import FLAGS, VALIDITY
from spectrane.formats.cf.describing import (
    WAVELENGTH,
    attributes_of,
    axes_of,
    axis_attributes,
    grid_mapping_of,
)
from spectrane.model.grid import Grid
from spectrane.model.source import Source, called
from spectrane.spatial.converted import Physical

MAP, PATIENT = "crs", "patient"
"""The coordinates of a single number whose attributes say where all lies."""
ROLE, TIME = "role", "time"


def to_xarray(source: Source, *, physical: bool = False, chunks: Chunks | None = None) -> Any:
    """Return a DataArray of a raster (band, y, x) or a volume (frame, i, j, k).

    With ``chunks`` nothing is read before it computes.
    """
    xarray = library("xarray", "array")
    given = Physical(source) if physical else source
    kept = as_arrays_have(given)
    flat = len(source.shape) == 2
    lead = "band" if flat else "frame"
    dims = (lead, "y", "x") if flat else (lead, "i", "j", "k")
    coordinates: dict[str, Any] = _of_bands(kept, lead)
    coordinates |= _of_grid(kept.grid) if flat else _of_voxels(kept.grid)
    if kept.has_mask:
        coordinates[VALIDITY] = (dims, _numbers(SourceArray(kept, validity=True), chunks), FLAGS)
    elsewhere = {"grid", "role", *([] if flat else ["time"])}
    meant = Described(kept, given.bands)
    said = attributes_of(meant, "xarray", elsewhere=elsewhere, told=("nodata",))
    said.pop("coordinates", None)
    said["grid_mapping"] = MAP if flat else PATIENT
    said.setdefault("long_name", called(source))
    return xarray.DataArray(_numbers(SourceArray(kept), chunks), coordinates, dims, "data", said)


def _numbers(array: SourceArray, chunks: Chunks | None) -> Any:
    return array[...] if chunks is None else dask_array(array, chunks)


def _of_bands(source: Source, lead: str) -> dict[str, Any]:
    """Return the coordinates along bands: names, and what else some of them have."""
    bands = source.bands
    found: dict[str, Any] = {lead: ((lead,), [band.name for band in bands], {"long_name": lead})}
    if any(band.role for band in bands):
        roles = [band.role or "" for band in bands]
        found[ROLE] = ((lead,), roles, {"long_name": "what a band is used as"})
    for name, values, said in (
        (WAVELENGTH, [band.wavelength for band in bands],
         {"units": "nm", "standard_name": "radiation_wavelength"}),
        (TIME, [band.time for band in bands], {"units": "s", "long_name": "time of a frame"}),
    ):  # fmt: skip
        if any(value is not None for value in values):
            held = np.array([np.nan if value is None else value for value in values], float)
            found[name] = ((lead,), held, said)
    return found


def _of_grid(grid: Grid) -> dict[str, Any]:
    """Return the centres of pixels, and the mapping: the system, and the affine of corners."""
    rows, columns = axis_attributes(grid) if grid.placed else (
        {"long_name": "row", "units": "1"}, {"long_name": "column", "units": "1"})  # fmt: skip
    said = grid_mapping_of(grid) | {"affine": np.ravel(grid.matrix).tolist()}
    said |= {"y_up": int(grid.y_up), "placed": int(grid.placed)}
    said |= {"crs": grid.crs_text} if grid.crs_text else {}
    said |= {"crs_name": grid.crs_name} if grid.crs_name else {}
    found: dict[str, Any] = {MAP: ((), np.int32(0), said)}
    if not grid.rotated:
        y, x = axes_of(grid)
        return found | {"y": (("y",), y, rows), "x": (("x",), x, columns)}
    down, across = np.meshgrid(np.arange(grid.rows) + 0.5, np.arange(grid.columns) + 0.5,
                               indexing="ij")  # fmt: skip
    x, y = grid.to_map(across, down)
    for said_of in (rows, columns):
        said_of.pop("axis", None)  # an axis is of one dimension
    return found | {"yc": (("y", "x"), y, rows), "xc": (("y", "x"), x, columns)}


def _of_voxels(grid: Grid) -> dict[str, Any]:
    """Return voxels' indices, and the affine from their centres to the patient (RAS+, mm)."""
    said = {"affine": np.ravel(grid.matrix).tolist(), "units": "mm",
            "long_name": "from voxels' centres to patient millimetres (RAS+)"}  # fmt: skip
    found: dict[str, Any] = {PATIENT: ((), np.int32(0), said)}
    for name, length in zip("ijk", grid.shape, strict=True):
        found[name] = ((name,), np.arange(length), {"long_name": f"voxel index {name}"})
    return found
