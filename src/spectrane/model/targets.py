"""Where what is written may go: a path, an address, or something open that takes bytes."""

from __future__ import annotations

import contextlib
import itertools
import os
import posixpath
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, BinaryIO, TypeAlias

from spectrane.model.addresses import OPEN, file_name, filesystem_of, is_address
from spectrane.model.errors import AccessError, ExistingFile, FormatError
from spectrane.model.regular_files import called_instead, found_from
from spectrane.model.whole_files import written_whole

Target: TypeAlias = "str | os.PathLike[str] | BinaryIO"
"""A path, an fsspec address, or an open binary file (a ``BytesIO``, say)."""


@contextlib.contextmanager
def local_place(
    target: Target, *, ending: str | None = None, usual: str | None = None,
    overwrite: bool = False, storage_options: Mapping[str, Any] | None = None,
) -> Iterator[str]:  # fmt: skip
    """Yield the local path where something is to be written: the target's own, or a scratch file
    of its ending that is sent on once it is whole.

    ``ending`` says the format where the target has no name; ``usual`` is that of open files where
    nothing else says one. Raises FormatError where nothing does,
    ExistingFile for an address that is there, AccessError.
    """
    if isinstance(target, str | os.PathLike) and not is_address(target):
        yield os.fspath(target).removeprefix("file://")
        return
    open_file = not isinstance(target, str | os.PathLike)
    ending = ending or (usual if open_file else None)
    name = str(getattr(target, "name", "")) if open_file else os.fspath(target)  # type: ignore[arg-type]
    base = file_name(name) if not ending else f"data{ending}"
    if not os.path.splitext(base)[1]:
        raise FormatError(f"{name or 'an open file'}: its name says no format; say ending='.tif', "
                          "or another that is written")  # fmt: skip
    if not open_file:
        with sent_to(name, base, overwrite=overwrite, options=storage_options) as place:
            yield place
        return
    with scratch(base, name or OPEN) as place:
        yield place
        _send(place, name, target)


@contextlib.contextmanager
def local_folder(
    target: str | os.PathLike[str], *, overwrite: bool = False,
    storage_options: Mapping[str, Any] | None = None,
) -> Iterator[str]:  # fmt: skip
    """Yield the local folder where many files are to be written: the target, or a scratch folder
    whose files are sent on among those that are there. Raises ExistingFile, AccessError.
    """
    name = os.fspath(target)
    if not is_address(name):
        yield name.removeprefix("file://")
        return
    with sent_to(name, overwrite=overwrite, options=storage_options, among=True) as place:
        yield place


@contextlib.contextmanager
def scratch(base: str, name: str) -> Iterator[str]:
    """Yield a scratch place of a name, which errors call what it stands for."""
    import tempfile  # what is written to a path needs none

    with tempfile.TemporaryDirectory() as folder:
        place = os.path.join(folder, base)
        with called_instead(place, name):
            yield place


@contextlib.contextmanager
def sent_to(
    name: str, base: str | None = None, *, overwrite: bool = False,
    options: Mapping[str, Any] | None = None, among: bool = False,
) -> Iterator[str]:  # fmt: skip
    """Yield a scratch place; what was written there is sent on to an address, as ``send_on`` says.

    Raises ExistingFile, before any work, and AccessError.
    """
    check_free(name, overwrite=overwrite, options=options)
    with scratch(base or file_name(name.rstrip("/")) or "output", name) as place:
        yield place
        if os.path.exists(place):  # nothing is in a dry run
            send_on(place, name, overwrite=overwrite, options=options, among=among)


@contextlib.contextmanager
def written_to(
    target: Target, *, usual: str, overwrite: bool = False,
    storage_options: Mapping[str, Any] | None = None,
) -> Iterator[BinaryIO]:  # fmt: skip
    """Yield what a file of one format is written into: whole or not at all, wherever it goes.

    ``usual`` is the format's ending, for open files. Raises as ``local_place`` does.
    """
    with (
        local_place(target, usual=usual, overwrite=overwrite,
                    storage_options=storage_options) as place,
        written_whole(place, overwrite=overwrite) as file,
    ):  # fmt: skip
        yield file


def _send(place: str, name: str, target: Any) -> None:
    if os.path.isdir(place):
        raise FormatError(f"{name or 'an open file'}: a store of many files needs a folder")
    import shutil

    with open(place, "rb") as file:
        shutil.copyfileobj(file, target, 1 << 20)


def check_free(name: str, *, overwrite: bool, options: Mapping[str, Any] | None = None) -> None:
    """Raise ExistingFile where something is at an address and is not to be replaced."""
    filesystem, path = filesystem_of(name, options)
    try:
        there = not overwrite and filesystem.exists(path)
    except Exception as error:
        raise AccessError(f"{name}: cannot be written: {error}") from error
    if there:
        raise ExistingFile(f"{name}: exists already; overwrite (--overwrite) replaces it")


def send_on(
    place: str, name: str, *, overwrite: bool = False, options: Mapping[str, Any] | None = None,
    among: bool = False, alone: bool = False,
) -> None:  # fmt: skip
    """Send a scratch file or folder to an address, unless ``alone`` with what lies beside it.

    A folder replaces one that is there, or with ``among`` goes among its files. Raises
    ExistingFile for a file beside that is there, and AccessError; nothing is left of what failed.
    """
    above, base = os.path.split(place)
    beside = {os.path.join(above, one): found_from(one, name)
              for one in os.listdir(above) if one != base and not alone}  # fmt: skip
    for address in beside.values():
        check_free(address, overwrite=overwrite, options=options)
    for one, address in (*beside.items(), (place, name)):  # what names the others comes last
        filesystem, path = filesystem_of(address, options)
        try:
            if os.path.isdir(one):
                _put_folder(one, filesystem, path.rstrip("/"), among=among)
            else:
                filesystem.put([one], [path])
        except NotImplementedError as error:
            raise AccessError(
                f"{address}: cannot be written: this kind of address is only read"
            ) from error
        except Exception as error:
            raise AccessError(f"{address}: cannot be written: {error}") from error


def _put_folder(place: str, filesystem: Any, path: str, *, among: bool) -> None:
    """Send a folder: what lies deepest first, since what lies above tells what is there.

    One that replaces another is whole before that goes.
    """
    found = [os.path.relpath(os.path.join(folder, name), place).replace(os.sep, "/")
             for folder, _, names in os.walk(place) for name in names]  # fmt: skip
    found.sort(key=lambda name: (-name.count("/"), name))
    there = filesystem.exists(path)
    target = f"{path}.partial" if there and not among else path
    try:
        for _, group in itertools.groupby(found, key=lambda name: name.count("/")):
            names = list(group)
            _make_folders(filesystem, target, names)
            filesystem.put([os.path.join(place, name) for name in names],
                           [f"{target}/{name}" for name in names])  # fmt: skip
    except BaseException:
        if target != path or not there:
            with contextlib.suppress(Exception):
                filesystem.rm(target, recursive=True)
        raise
    if target != path:
        filesystem.rm(path, recursive=True)
        _make_folders(filesystem, path, found)
        # File by file: buckets have no folders that could be moved.
        filesystem.copy([f"{target}/{name}" for name in found],
                        [f"{path}/{name}" for name in found])  # fmt: skip
        filesystem.rm(target, recursive=True)


def _make_folders(filesystem: Any, path: str, names: Sequence[str]) -> None:
    """Make the folders that files lie in, in the storages that want them made."""
    if hasattr(filesystem, "auto_mkdir"):
        for above in {posixpath.dirname(f"{path}/{name}") for name in names}:
            filesystem.makedirs(above, exist_ok=True)
