"""Writing netCDF-4 and Zarr: one variable with CF attributes, coordinates and grid mapping."""

from __future__ import annotations

import contextlib
import importlib
import os
import shutil
import warnings
from collections.abc import Iterator
from typing import Any

import numpy as np

from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.storing import filled, single_fill
from spectrane.model.errors import AccessError, DataWarning, ExistingFile, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.source import Source
from spectrane.model.whole_files import check_target

_CHUNK = 512
VARIABLE = "data"


def write_netcdf(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as netCDF-4 (HDF5) with CF-1.11 attributes, chunked and deflated."""
    h5py = _library("h5py", target)
    path = os.fspath(target)
    with _partial(path, overwrite) as partial, h5py.File(partial, "w", libver="v110") as root:
        root.attrs["Conventions"] = "CF-1.11"
        _put(root, _coordinates(source), None)
        shape, chunks = _shapes(source)
        kept = root.create_dataset(
            VARIABLE, shape, _dtype(source), chunks=chunks, compression="gzip", compression_opts=4,
            shuffle=True,
        )  # fmt: skip
        said = _attributes(source)
        if "_FillValue" in said:  # netCDF wants it in the variable's own type
            said["_FillValue"] = np.asarray(said["_FillValue"], kept.dtype)
        kept.attrs.update(said)
        for number, name in enumerate(_dimensions(source)):
            kept.dims[number].label = name
            if name in root:
                kept.dims[number].attach_scale(root[name])
        _copy(source, kept, progress)


def write_zarr(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as a Zarr version 3 group with CF-1.11 attributes."""
    zarr = _library("zarr", target)
    path = os.fspath(target).rstrip("/\\")
    with _partial(path, overwrite) as partial:
        root = zarr.open_group(partial, mode="w", zarr_format=3)
        root.attrs["Conventions"] = "CF-1.11"
        _put(root, _coordinates(source), "zarr")
        shape, chunks = _shapes(source)
        kept = root.create_array(
            VARIABLE, shape=shape, dtype=_dtype(source), chunks=chunks,
            dimension_names=_dimensions(source),
        )  # fmt: skip
        kept.attrs.update(_attributes(source))
        _copy(source, kept, progress)


def _library(name: str, target: str | os.PathLike[str]) -> Any:
    try:
        return importlib.import_module(name)
    except ImportError as error:
        raise AccessError(
            f"{os.fspath(target)}: writing it needs {name}: pip install 'spectrane[storage]'"
        ) from error


@contextlib.contextmanager
def _partial(path: str, overwrite: bool) -> Iterator[str]:
    """Yield a hidden path beside the target, which gets the target's name at the end."""
    folder = os.path.isdir(path) and path.endswith(".zarr")
    if folder and not overwrite:
        raise ExistingFile(f"{path}: exists already; overwrite (--overwrite) replaces it")
    if not folder:
        check_target(path, overwrite=overwrite)
    partial = os.path.join(os.path.dirname(path), f".{os.path.basename(path)}.partial")
    _remove(partial)
    try:
        yield partial
        if folder:
            _remove(path)
        os.replace(partial, path)
    except BaseException as error:
        _remove(partial)
        if isinstance(error, OSError) and not isinstance(error, AccessError):
            raise AccessError(f"{path}: cannot be written: {error}") from error
        raise


def _remove(path: str) -> None:
    if os.path.isdir(path):
        shutil.rmtree(path)
    elif os.path.exists(path):
        os.unlink(path)


def _dtype(source: Source) -> np.dtype[Any]:
    return np.dtype(np.uint8) if source.dtype.kind == "b" else source.dtype


def _dimensions(source: Source) -> list[str]:
    lead = ["band"] if len(source.bands) > 1 else []
    return [*lead, "y", "x"]


def _shapes(source: Source) -> tuple[tuple[int, ...], tuple[int, ...]]:
    rows, columns = source.shape
    block = (min(_CHUNK, rows), min(_CHUNK, columns))
    if len(source.bands) == 1:
        return (rows, columns), block
    return (len(source.bands), rows, columns), (1, *block)


def _coordinates(source: Source) -> dict[str, tuple[tuple[str, ...], Any, dict[str, Any]]]:
    """Return name -> (dimensions, values, attributes) of the coordinate variables."""
    grid = source.grid
    found: dict[str, tuple[tuple[str, ...], Any, dict[str, Any]]] = {}
    if grid.placed:
        (y, x), kind = _axes(grid), _axis_attributes(grid)
        found |= {"y": (("y",), y, kind[0]), "x": (("x",), x, kind[1])}
    if len(source.bands) > 1:
        found["band"] = (("band",), np.arange(1, len(source.bands) + 1, dtype=np.int32),
                         {"long_name": "band number"})  # fmt: skip
        waves = [band.wavelength for band in source.bands]
        if any(waves):
            values = np.array([np.nan if w is None else w for w in waves])
            said = {"units": "nm", "standard_name": "radiation_wavelength"}
            found["wavelength"] = (("band",), values, said)
    if grid.crs_text:
        found["crs"] = ((), np.int32(0), _grid_mapping(grid))
    return found


def _axes(grid: Grid) -> tuple[Any, Any]:
    a, b, c, d, e, f = grid.coefficients
    if b or d:
        warnings.warn(
            "the rows run askew to the axes, which plain coordinates cannot say: the place is not "
            "kept", DataWarning, stacklevel=4,
        )  # fmt: skip
        a, c, e, f = 1.0, 0.0, 1.0, 0.0
    return (np.arange(grid.rows) + 0.5) * e + f, (np.arange(grid.columns) + 0.5) * a + c


def _axis_attributes(grid: Grid) -> tuple[dict[str, Any], dict[str, Any]]:
    try:
        geographic = grid.crs is not None and grid.crs.is_geographic
    except MetadataError:
        geographic = False
    if geographic:
        return ({"standard_name": "latitude", "units": "degrees_north", "axis": "Y"},
                {"standard_name": "longitude", "units": "degrees_east", "axis": "X"})  # fmt: skip
    return ({"standard_name": "projection_y_coordinate", "units": "m", "axis": "Y"},
            {"standard_name": "projection_x_coordinate", "units": "m", "axis": "X"})  # fmt: skip


def _grid_mapping(grid: Grid) -> dict[str, Any]:
    try:
        system = grid.crs
    except MetadataError:
        return {"long_name": grid.crs_text}
    assert system is not None
    found = {k: v for k, v in system.to_cf().items() if v is not None}
    return found | {"crs_wkt": system.to_wkt()}


def _put(root: Any, coordinates: Any, library: str | None) -> None:
    for name, (dimensions, values, said) in coordinates.items():
        array = np.asarray(values)
        if library is None:
            kept = root.create_dataset(name, data=array)
            if dimensions == (name,):
                kept.make_scale(name)
        else:
            kept = root.create_array(
                name, shape=array.shape, dtype=array.dtype, dimension_names=list(dimensions)
            )
            kept[...] = array
        kept.attrs.update({k: _storable(v) for k, v in said.items()})


def _storable(value: Any) -> Any:
    return list(value) if isinstance(value, tuple) else value


def _attributes(source: Source) -> dict[str, Any]:
    bands = source.bands
    found: dict[str, Any] = {}
    meanings = {(b.scale, b.offset, b.unit, repr(b.nodata)) for b in bands}
    if len(meanings) > 1:
        warnings.warn(
            "scale, offset, unit or no-data differ between bands, which one variable cannot say; "
            "those of band 1 are kept", DataWarning, stacklevel=3,
        )  # fmt: skip
    one = bands[0]
    if one.scaled:
        found |= {"scale_factor": one.scale, "add_offset": one.offset}
    if one.unit:
        found["units"] = one.unit
    fill = single_fill(source, source.dtype)
    if source.dtype.kind in "iu" and fill is not None:
        found["_FillValue"] = fill
    if len(bands) == 1:
        found["long_name"] = one.description or one.name
    found["band_names"] = "; ".join(band.name for band in bands)
    if source.grid.crs_text:
        found["grid_mapping"] = "crs"
    classes = source.look.classes if source.look else {}
    if classes and len(bands) == 1 and source.dtype.kind in "iu":
        order = sorted(classes)
        found["flag_values"] = [int(value) for value in order]
        found["flag_meanings"] = " ".join(classes[v][1].replace(" ", "_") or "_" for v in order)
        found["flag_colors"] = " ".join(classes[v][0] for v in order)
    history = source.metadata.get("provenance", ())
    return found | ({"history": "\n".join(map(str, history))} if history else {})


def _copy(source: Source, kept: Any, progress: Progress) -> None:
    fill = single_fill(source, source.dtype)
    rows, columns = source.shape
    many = len(source.bands) > 1
    for top in range(0, rows, _CHUNK):
        part = (top, min(top + _CHUNK, rows))
        pixels = source.read(range(len(source.bands)), (part, (0, columns)))
        values = filled(pixels.values, pixels.valid, [fill])
        where = (slice(None), slice(*part)) if many else (slice(*part),)
        kept[where] = (values if many else values[0]).astype(kept.dtype, copy=False)
        progress(part[1], rows)
