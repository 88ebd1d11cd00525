"""Every raster below a folder, found by its content."""

from __future__ import annotations

import itertools
import os
import posixpath
import shlex
import warnings
from collections.abc import Callable, Iterator, Mapping
from dataclasses import replace
from functools import partial
from typing import Any

from spectrane.analysis.checks import findings
from spectrane.engine.folders import Folder, LocalFolder, StorageFolder
from spectrane.engine.locking import ENDING as LOCK
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.cf.zarrs import STORE_MARKS, is_store
from spectrane.formats.dicom.arranging import UnevenSlices
from spectrane.formats.dicom.head import begins
from spectrane.formats.raw import format_layout, needed
from spectrane.formats.raw_notes import layout_in, notes_beside
from spectrane.formats.reduced_files import ENDING as REDUCED
from spectrane.formats.registry import archive_of, open_file, open_source, open_with, reader_of
from spectrane.formats.sidecar import ENDING
from spectrane.formats.sidecar import read as read_sidecar
from spectrane.formats.sidecar_schema import RawTable
from spectrane.formats.table import PROBED, may_be_known
from spectrane.kernels.records import record
from spectrane.model.addresses import is_address, is_web
from spectrane.model.errors import FormatError, MissingFile, SpectraneError
from spectrane.model.regular_files import kind_of, open_regular, path_text

_HIDDEN_ENDINGS = (".partial", ".undo.json", ENDING, REDUCED, LOCK, f"{LOCK}.holder")
HEADERLESS = "headerless"
"""The format of what only a note beside it may describe."""


@record(frozen=True)
class SurveyedFile:
    """One raster or volume, or a file that should be one: what it is, what is unusual, or why not.

    A volume's ``columns``, ``rows`` and ``planes`` run along i, j and k; a raster has no planes.
    Where a folder holds several series each has a row, with its ``name`` and ``member`` number, or
    the path of the one file that holds it.
    """

    path: str
    format: str | None
    rows: int | None
    columns: int | None
    planes: int | None
    bands: int | None
    type: str | None
    members: int | None
    crs: str | None
    pixel_size: float | None
    bytes: int
    unusual: tuple[str, ...]
    problem: str
    member: int | None = None
    name: str = ""


def surveyed_files(
    folder: str | os.PathLike[str], progress: Progress = no_progress,
    options: Mapping[str, Any] | None = None,
) -> list[SurveyedFile]:  # fmt: skip
    """Return every raster below a folder; only headers are read.

    Files of no raster format are passed over; broken ones are listed with the reason. ``options``
    are those of the storage that the folder lies in. ``progress`` counts files. Raises FormatError
    where there is no such folder.
    """
    top = _inside(path_text(folder))
    paths = list(_far_candidates(top, options) if is_address(top) else _candidates(top))
    files = []
    for number, path in enumerate(paths, 1):
        files += _looked_at(path, options)
        progress(number, len(paths))
    return files


def _inside(name: str) -> str:
    """Return what an archive of this machine holds as a folder; anything else as it is."""
    if is_address(name) or not os.path.isfile(name):
        return name
    archive = archive_of(_head(name) or b"")
    return name if archive is None else f"{archive}://::{name}"


def _no_folder(name: str) -> FormatError:
    lists = "; web servers list none" if is_web(name) else ""
    return FormatError(f"{name}: is not a folder{lists}; survey looks below one")


def _candidates(top: str) -> Iterator[str]:
    if not os.path.isdir(top):
        raise _no_folder(top)
    for folder, below, files in os.walk(top):
        below.sort()
        stores = [name for name in below if is_store(LocalFolder(os.path.join(folder, name)))]
        for name in stores:
            below.remove(name)
            yield os.path.join(folder, name)
        described = {name.removesuffix(ENDING) for name in files if name.endswith(ENDING)}
        kept, slices = [], set()
        for name in sorted(files):
            if name.endswith(_HIDDEN_ENDINGS):
                continue
            head = _head(os.path.join(folder, name))
            if head is not None and begins(head):
                slices.add(name)
            if head is None or name in described or may_be_known(head) or (
                b"\0" in head and notes_beside(os.path.join(folder, name))
            ):  # fmt: skip
                kept.append(name)
        slices = _told_as_folder(slices)
        if slices:
            yield folder
        yield from (os.path.join(folder, name) for name in kept if name not in slices)


def _far_candidates(top: str, options: Mapping[str, Any] | None) -> Iterator[str]:
    try:
        folder = open_file(top, options)
    except MissingFile as error:
        raise _no_folder(top) from error
    if not isinstance(folder, StorageFolder):
        raise _no_folder(top)
    every = folder.below()
    described = {name.removesuffix(ENDING) for name in every if name.endswith(ENDING)}
    names = [name for name in every if not name.endswith(_HIDDEN_ENDINGS)]
    marked = sorted({posixpath.dirname(name) for name in names
                     if posixpath.basename(name) in STORE_MARKS})  # fmt: skip
    stores: tuple[str, ...] = ()  # with the / that all in them begins with
    for place in marked:  # a store's own folders come after it
        if not f"{place}/".startswith(stores):
            stores += (f"{place}/" if place else "",)
    kept = [store.rstrip("/") for store in stores]
    alone = sorted((name for name in names if not name.startswith(stores)), key=posixpath.split)
    for place, group in itertools.groupby(alone, key=posixpath.dirname):
        kept += _far_files(folder, place, list(group), described)
    for name in sorted(kept):
        yield folder.path_of(name) if name else folder.name


def _far_files(
    folder: StorageFolder, place: str, names: list[str], described: set[str]
) -> Iterator[str]:  # fmt: skip
    """Yield what may be a raster of files that lie in one folder; slices are told as that."""
    heads = dict(zip(names, folder.starts(names, PROBED), strict=True))
    slices = _told_as_folder({name for name, head in heads.items() if begins(head)})
    if slices:
        yield place
    for name, head in heads.items():
        if name not in slices and (not head or name in described or may_be_known(head)):
            yield name


def _told_as_folder(slices: set[str]) -> set[str]:
    """Return those slices of one folder that are told with it: several, which are a series."""
    return slices if len(slices) > 1 else set()


def _head(path: str) -> bytes | None:
    """Return a file's first bytes, none of what is no file; None where that is to be told."""
    try:
        with os.fdopen(open_regular(path), "rb", buffering=0) as file:
            return file.read(PROBED)
    except OSError:
        return None if _may_be_file(path) else b""


def _may_be_file(path: str) -> bool:
    """Tell whether there is a file, or a link that leads nowhere, which is told as broken."""
    try:
        return kind_of(os.stat(path).st_mode) is None
    except OSError:
        return True


def _looked_at(path: str, options: Mapping[str, Any] | None = None) -> list[SurveyedFile]:
    kind: str | None = None
    size = 0
    try:
        file = open_file(path, options)
        size = file.size
        try:
            described = read_sidecar(path, options) is not None if is_address(path) else (
                os.path.exists(path + ENDING))  # fmt: skip
            kind, reader = (None, None) if described else reader_of(file)
        except FormatError:
            file.close()
            bare = None if is_address(path) else _neighbours(path, size)
            return [] if bare is None else [bare]
        if kind == "STAC item":  # its assets are what is there, if they are here at all
            file.close()
            return []
        if isinstance(file, Folder) and hasattr(reader, "each"):
            return _each(path, reader, file, options)
        size = file.bytes_below() if isinstance(file, Folder) else size
        facts = _facts(path, size, lambda: (
            open_source(path, storage_options=options) if reader is None else (
                open_with(reader, file))))  # fmt: skip
        file.close()
        return [facts]
    except SpectraneError as error:
        return [_broken(path, kind, size, error)]


def _broken(
    path: str, kind: str | None, size: int, error: SpectraneError, **named: Any
) -> SurveyedFile:
    nothing = (None,) * 8
    return SurveyedFile(path, kind, *nothing, bytes=size, unusual=(),
                        problem=_reason(path, error), **named)  # fmt: skip


def _each(
    folder: str, reader: Any, file: Folder, options: Mapping[str, Any] | None
) -> list[SurveyedFile]:  # fmt: skip
    """Return a row per series of a folder; uneven slices are told of, and no failure."""
    rows = []
    broken: list[tuple[str, FormatError]] = []
    objects: list[tuple[str, str]] = []
    found = list(reader.each(file, broken, objects))
    for number, (series, opened) in enumerate(found, 1):
        named: dict[str, Any] = {}
        if len(found) > 1 or series.path is not None:
            named["name"] = series.title
            if series.path is None:
                named["member"] = number
        path, size = series.path or folder, series.bytes
        try:
            try:
                row = _facts(path, size, opened, **named)
            except UnevenSlices as uneven:
                row = _facts(path, size, partial(opened, spacing="nominal"), **named)
                rest = tuple(text for text in row.unusual if uneven.reason not in text)
                told = f"{uneven.reason}; it opens with spacing resample or nominal"
                row = replace(row, unusual=(told, *rest))
        except SpectraneError as error:
            row = _broken(path, "DICOM", size, error, **named)
        rows.append(row if series.path is None else replace(row, members=1))
    file.close()
    for one, said in objects:
        nothing = (None,) * 8
        rows += _looked_at(one, options) if not said else [
            SurveyedFile(one, "DICOM", *nothing, bytes=_size(one, options), unusual=(said,),
                         problem="")
        ]  # fmt: skip
    return rows + [_broken(one, "DICOM", _size(one, options), error) for one, error in broken]


def _size(path: str, options: Mapping[str, Any] | None) -> int:
    file = open_file(path, options)
    file.close()
    return file.size


def _neighbours(path: str, size: int) -> SurveyedFile | None:
    """Return a headerless binary with notes that may describe it: nothing of them is trusted."""
    beside = notes_beside(path)
    if beside is None:
        return None
    notes = os.path.join(os.path.dirname(path), beside)
    said = {"bands": 1, "type": "uint8"} | layout_in(notes)
    table = RawTable.model_validate(said)
    fits = "which fits its size" if needed(table) == size else (
        f"which takes {needed(table)} bytes and not its {size}")  # fmt: skip
    nothing = (None,) * 8
    return SurveyedFile(
        path, HEADERLESS, *nothing, bytes=size, unusual=(), problem=f"{beside} beside it says "
        f"{format_layout(table)}, {fits}; check it by eye: spectrane raw {shlex.quote(path)} "
        f"--from {shlex.quote(notes)} --guess --preview guesses.png",
    )  # fmt: skip


def _facts(path: str, size: int, opened: Callable[[], Any], **named: Any) -> SurveyedFile:
    with warnings.catch_warnings(record=True) as told:
        warnings.simplefilter("always")
        source = opened()
        unusual = [finding.message for finding in findings(source, pixels=False)]
    unusual += [_reason(path, one.message) for one in told]
    grid = source.grid
    columns, rows, planes = grid.shape if len(grid.shape) == 3 else (grid.columns, grid.rows, None)
    side = grid.pixel_size[0] if grid.placed else None
    facts = SurveyedFile(
        path, source.format, rows, columns, planes, len(source.bands), source.dtype.name,
        source.members, grid.crs_text, side, size, tuple(unusual), "",
        **named,
    )  # fmt: skip
    source.close()
    return facts


def _reason(path: str, error: Any) -> str:
    """Return a message without the path that the row names already."""
    return " ".join(str(error).removeprefix(f"{path}: ").split())
