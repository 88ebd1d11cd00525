"""Writing netCDF-4 and Zarr: one variable with CF attributes, coordinates and grid mapping."""

from __future__ import annotations

import contextlib
import importlib
import io
import os
import shutil
from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np

from spectrane.engine.threads import Progress, in_parallel, no_progress
from spectrane.formats.cf.arrays import FLAGS, VALIDITY, WORDS
from spectrane.formats.keeping import words_without_field
from spectrane.formats.validity import NETCDF, ZARR, fill_of, keeping, single_nodata
from spectrane.model.band import Band
from spectrane.model.errors import AccessError, ExistingFile, SpectraneError
from spectrane.model.grid import Grid
from spectrane.model.regular_files import reason_of
from spectrane.model.source import Source
from spectrane.model.whole_files import check_target, followed, partial_name, sync_folder

_CHUNK = 512
VARIABLE, WAVELENGTH = "data", "wavelength"
_OF_ITS_TYPE = ("_FillValue", "flag_values")
"""Attributes that netCDF wants in the variable's own type."""


def write_netcdf(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as netCDF-4 (HDF5) with CF-1.11 attributes, chunked and deflated."""
    h5py = _library("h5py", target)
    path, source = followed(os.fspath(target)), keeping(source, NETCDF)
    with (
        _partial(path, overwrite) as partial,
        _Steady(partial) as file,
        h5py.File(file, "w", libver="v110") as root,
    ):
        file.checked()
        root.attrs["Conventions"] = "CF-1.11"
        _put(root, _coordinates(source), None)
        shape, chunks = _shapes(source)

        def made(name: str, dtype: np.dtype[Any], said: dict[str, Any]) -> Any:
            kept = root.create_dataset(name, shape, dtype, chunks=chunks, compression="gzip",
                                       compression_opts=4, shuffle=True)  # fmt: skip
            own = {k: np.asarray(said[k], dtype) for k in _OF_ITS_TYPE if k in said}
            kept.attrs.update(said | own)
            for number, dimension in enumerate(_dimensions(source)):
                kept.dims[number].label = dimension
                if dimension in root:
                    kept.dims[number].attach_scale(root[dimension])
            return kept

        _fill(source, made, "netCDF", progress, file.checked)


class _Steady(io.FileIO):
    """A file whose failing writes are told by ``checked`` alone.

    HDF5 keeps in memory what it could not write, tries again when it closes, and may crash there.
    """

    def __init__(self, path: str) -> None:
        super().__init__(path, "w+")
        self.problem: OSError | None = None

    def write(self, data: Any) -> int:
        """Write all, or note why not, and go on as if it had been."""
        view = memoryview(data).cast("B")
        written = 0
        while written < len(view) and self.problem is None:
            try:
                written += super().write(view[written:]) or 0
            except OSError as error:
                self.problem = error
        if self.problem is not None:
            super().seek(len(view) - written, io.SEEK_CUR)
        return len(view)

    def truncate(self, size: int | None = None) -> int:
        """Cut or lengthen the file, or note why not."""
        try:
            return super().truncate(size)
        except OSError as error:
            self.problem = self.problem or error
            return size or 0

    def checked(self) -> None:
        """Raise what a write ended with."""
        if self.problem is not None:
            raise self.problem

    def __exit__(self, *given: object) -> None:
        try:
            if given[0] is None:
                self.checked()
                os.fsync(self.fileno())
        finally:
            super().__exit__(*given)  # type: ignore[arg-type]


def write_zarr(
    source: Source,
    target: str | os.PathLike[str],
    *,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write a source as a Zarr version 3 group with CF-1.11 attributes."""
    zarr = _library("zarr", target)
    path, source = os.fspath(target).rstrip("/\\"), keeping(source, ZARR)
    with _partial(path, overwrite) as partial:
        root = zarr.open_group(partial, mode="w", zarr_format=3)
        root.attrs["Conventions"] = "CF-1.11"
        _put(root, _coordinates(source), "zarr")
        shape, chunks = _shapes(source)

        def made(name: str, dtype: np.dtype[Any], said: dict[str, Any]) -> Any:
            kept = root.create_array(name, shape=shape, dtype=dtype, chunks=chunks,
                                     dimension_names=_dimensions(source))  # fmt: skip
            kept.attrs.update(said)
            return kept

        _fill(source, made, "Zarr", progress, threaded=True)


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
    partial = partial_name(path)
    _remove(partial)
    try:
        yield partial
        if folder:
            _remove(path)
        os.replace(partial, path)
        sync_folder(os.path.dirname(path) or ".")
    except BaseException as error:
        _remove(partial)
        if isinstance(error, OSError | RuntimeError) and not isinstance(error, SpectraneError):
            reason = reason_of(error)
            raise AccessError(f"{path}: cannot be written: {reason}") from error
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
    coordinates: dict[str, tuple[tuple[str, ...], Any, dict[str, Any]]] = {}
    if grid.placed and not grid.rotated:
        (y, x), kind = _axes(grid), _axis_attributes(grid)
        coordinates |= {"y": (("y",), y, kind[0]), "x": (("x",), x, kind[1])}
    if len(source.bands) > 1:
        coordinates["band"] = (("band",), np.arange(1, len(source.bands) + 1, dtype=np.int32),
                         {"long_name": "band number"})  # fmt: skip
    waves = [np.nan if band.wavelength is None else band.wavelength for band in source.bands]
    if np.isfinite(waves).any():
        along = ("band",) if len(waves) > 1 else ()
        said = {"units": "nm", "standard_name": "radiation_wavelength"}
        coordinates[WAVELENGTH] = (along, np.array(waves if along else waves[0]), said)
    if grid.crs_text:
        coordinates["crs"] = ((), np.int32(0), _grid_mapping(grid))
    return coordinates


def _axes(grid: Grid) -> tuple[Any, Any]:
    a, _, c, _, e, f = grid.coefficients
    return (np.arange(grid.rows) + 0.5) * e + f, (np.arange(grid.columns) + 0.5) * a + c


def _axis_attributes(grid: Grid) -> tuple[dict[str, Any], dict[str, Any]]:
    system = grid.crs
    if system is not None and system.is_geographic:
        return ({"standard_name": "latitude", "units": "degrees_north", "axis": "Y"},
                {"standard_name": "longitude", "units": "degrees_east", "axis": "X"})  # fmt: skip
    return (
        {"standard_name": "projection_y_coordinate", "units": _unit(grid), "axis": "Y"},
        {"standard_name": "projection_x_coordinate", "units": _unit(grid), "axis": "X"},
    )


def _unit(grid: Grid) -> str:
    """Return the unit of the map's axes as UDUNITS spells it; metres where nothing says."""
    system = grid.crs
    axes = [] if system is None else system.axis_info
    name = axes[0].unit_name if axes else "metre"
    return "m" if name == "metre" else name.replace(" ", "_")


def _grid_mapping(grid: Grid) -> dict[str, Any]:
    system = grid.crs
    if system is None:
        return {"long_name": grid.crs_text, "crs": grid.crs_text}
    mapping = {k: v for k, v in system.to_cf().items() if v is not None}
    return mapping | {"crs_wkt": system.to_wkt()}


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


def _attributes(source: Source, name: str) -> dict[str, Any]:
    bands, one = source.bands, source.bands[0]
    held = _held(bands)
    attributes: dict[str, Any] = {}
    if "scale" in held and one.scaled:
        attributes |= {"scale_factor": one.scale, "add_offset": one.offset}
    if "unit" in held and one.unit:
        attributes["units"] = one.unit
    fill = fill_of(one, source.dtype) if single_nodata(bands) is not None else None
    if fill is not None and fill == fill:  # NaN needs no word
        attributes["_FillValue"] = np.asarray(fill, _dtype(source)).item()
    if len(bands) == 1:
        attributes["long_name"] = one.description or one.name
    attributes["band_names"] = [band.name for band in bands]
    if any(band.wavelength is not None for band in bands):
        attributes["coordinates"] = WAVELENGTH
    if source.grid.crs_text:
        attributes["grid_mapping"] = "crs"
    if source.has_mask:
        attributes["ancillary_variables"] = VALIDITY
    classes = source.look.classes if source.look else {}
    if classes and len(bands) == 1 and source.dtype.kind in "iu":
        order = sorted(classes)
        attributes["flag_values"] = [int(value) for value in order]
        attributes["flag_meanings"] = " ".join(
            classes[v][1].replace(" ", "_") or "_" for v in order
        )
        attributes["flag_colors"] = " ".join(classes[v][0] for v in order)
    history = source.metadata.get("provenance", ())
    attributes |= {"history": "\n".join(map(str, history))} if history else {}
    placed = not (source.grid.placed and source.grid.rotated)
    words = words_without_field(source, held, format=name, where=f"an attribute ({WORDS})",
                                place=placed, classes="flag_values" in attributes)  # fmt: skip
    return attributes | ({WORDS: words} if words else {})


def _held(bands: Sequence[Band]) -> set[str]:
    """Return what CF's attributes say of the bands: what is the same in all of them."""
    held = {"name", "wavelength"}
    if len({(band.scale, band.offset) for band in bands}) == 1:
        held |= {"scale", "offset"}
    if len({band.unit for band in bands}) == 1:
        held.add("unit")
    if single_nodata(bands) is not None:
        held.add("nodata")
    if len(bands) == 1:
        held.add("description")
    return held


def _fill(
    source: Source, made: Callable[..., Any], name: str, progress: Progress,
    checked: Callable[[], None] = lambda: None, threaded: bool = False,
) -> None:  # fmt: skip
    """Make the variable, and its validity where it has a mask, and copy a source into them.

    ``checked`` raises what a write ended with; ``threaded`` allows chunks to be written at once.
    """
    kept = made(VARIABLE, _dtype(source), _attributes(source, name))
    shown = made(VALIDITY, np.dtype(np.uint8), FLAGS) if source.has_mask else None
    rows, columns = source.shape
    many = len(source.bands) > 1
    lefts = range(0, columns, _CHUNK)
    for top in range(0, rows, _CHUNK):
        part = (top, min(top + _CHUNK, rows))
        pixels = source.read(range(len(source.bands)), (part, (0, columns)))
        values, valid = pixels.values, pixels.validity
        # A chunk a call, on our threads: of several in one call the zarr library would go on
        # writing after the first that fails, into a folder that is being removed.
        jobs = [
            (kept_in, array, band, left)
            for kept_in, array in [(kept, values), *([] if shown is None else [(shown, valid)])]
            for band in range(len(source.bands)) for left in lefts
        ]  # fmt: skip

        def put(job: tuple[Any, Any, int, int], part: tuple[int, int] = part) -> None:
            kept_in, array, band, left = job
            across = slice(left, min(left + _CHUNK, columns))
            where = ((band,) if many else ()) + (slice(*part), across)
            kept_in[where] = array[band, :, across].astype(kept_in.dtype, copy=False)

        in_parallel(jobs, lambda: put, threads=None if threaded else 1)
        checked()
        progress(part[1], rows)
