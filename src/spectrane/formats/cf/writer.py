"""Writing netCDF-4 and Zarr: one variable with CF attributes, coordinates and grid mapping."""

from __future__ import annotations

import contextlib
import importlib
import io
import os
import shutil
from collections.abc import Callable, Iterator
from typing import Any

import numpy as np

from spectrane.engine.threads import Progress, in_parallel, no_progress
from spectrane.formats.cf.arrays import FLAGS, VALIDITY
from spectrane.formats.cf.describing import (
    attributes_of,
    coordinates_of,
    dimensions_of,
    stored_dtype,
)
from spectrane.formats.validity import NETCDF, ZARR, keeping
from spectrane.model.errors import AccessError, ExistingFile, SpectraneError
from spectrane.model.regular_files import reason_of
from spectrane.model.source import Source
from spectrane.model.whole_files import check_target, followed, partial_name, sync_folder

_CHUNK = 512
VARIABLE = "data"
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
        _put(root, coordinates_of(source), None)
        shape, chunks = _shapes(source)

        def made(name: str, dtype: np.dtype[Any], said: dict[str, Any]) -> Any:
            kept = root.create_dataset(name, shape, dtype, chunks=chunks, compression="gzip",
                                       compression_opts=4, shuffle=True)  # fmt: skip
            own = {k: np.asarray(said[k], dtype) for k in _OF_ITS_TYPE if k in said}
            kept.attrs.update(said | own)
            for number, dimension in enumerate(dimensions_of(source)):
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
        _put(root, coordinates_of(source), "zarr")
        shape, chunks = _shapes(source)

        def made(name: str, dtype: np.dtype[Any], said: dict[str, Any]) -> Any:
            kept = root.create_array(name, shape=shape, dtype=dtype, chunks=chunks,
                                     dimension_names=dimensions_of(source))  # fmt: skip
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


def _shapes(source: Source) -> tuple[tuple[int, ...], tuple[int, ...]]:
    rows, columns = source.shape
    block = (min(_CHUNK, rows), min(_CHUNK, columns))
    if len(source.bands) == 1:
        return (rows, columns), block
    return (len(source.bands), rows, columns), (1, *block)


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


def _fill(
    source: Source, made: Callable[..., Any], name: str, progress: Progress,
    checked: Callable[[], None] = lambda: None, threaded: bool = False,
) -> None:  # fmt: skip
    """Make the variable, and its validity where it has a mask, and copy a source into them.

    ``checked`` raises what a write ended with; ``threaded`` allows chunks to be written at once.
    """
    kept = made(VARIABLE, stored_dtype(source), attributes_of(source, name))
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
