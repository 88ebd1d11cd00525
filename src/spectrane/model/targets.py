"""Where what is written may go: a path, an address, or something open that takes bytes."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO, TypeAlias

from spectrane.model.addresses import filesystem_of, is_address
from spectrane.model.errors import AccessError, ExistingFile, FormatError
from spectrane.model.regular_files import called_instead
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
    base = os.path.basename(name.rpartition("::")[0] or name) if not ending else f"data{ending}"
    if not os.path.splitext(base)[1]:
        raise FormatError(f"{name or 'an open file'}: its name says no format; say ending='.tif', "
                          "or another that is written")  # fmt: skip
    if not open_file:
        _check_free(name, overwrite, storage_options)
    import tempfile  # what is written to a path needs none

    with tempfile.TemporaryDirectory() as folder:
        place = os.path.join(folder, base)
        with called_instead(place, name or "an open file"):
            yield place
        if open_file:
            _send(place, name, target)
        else:
            _put(place, name, storage_options)


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


def _check_free(name: str, overwrite: bool, options: Mapping[str, Any] | None) -> None:
    filesystem, path = filesystem_of(name, options)
    try:
        there = not overwrite and filesystem.exists(path)
    except Exception as error:
        raise AccessError(f"{name}: cannot be written: {error}") from error
    if there:
        raise ExistingFile(f"{name}: exists already; overwrite (--overwrite) replaces it")


def _put(place: str, name: str, options: Mapping[str, Any] | None) -> None:
    filesystem, path = filesystem_of(name, options)
    try:
        filesystem.put(place, path, recursive=os.path.isdir(place))
    except NotImplementedError as error:
        raise AccessError(
            f"{name}: cannot be written: this kind of address is only read"
        ) from error
    except Exception as error:
        raise AccessError(f"{name}: cannot be written: {error}") from error
