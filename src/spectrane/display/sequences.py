"""Pictures that belong together: as numbered files, or as one that moves."""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterable

from spectrane.display.picture import Picture
from spectrane.formats.png.encoding import encode_animated_png
from spectrane.model.errors import FormatError, LookError
from spectrane.model.whole_files import check_target, written_whole


def numbered_paths(path: str | os.PathLike[str], count: int) -> list[str]:
    """Return ``count`` paths with a number before the ending, as wide as the last needs.

    >>> numbered_paths("walk.png", 12)[::11]
    ['walk-01.png', 'walk-12.png']
    """
    stem, ending = os.path.splitext(os.fspath(path))
    width = len(str(count))
    return [f"{stem}-{number:0{width}}{ending}" for number in range(1, count + 1)]


def save_numbered(
    pictures: Iterable[Picture],
    path: str | os.PathLike[str],
    count: int,
    *,
    overwrite: bool = False,
) -> list[str]:
    """Write each picture to a numbered file; none is begun where one of them exists already.

    Returns the paths. Raises ExistingFile, AccessError; FormatError for another ending than .png.
    """
    paths = numbered_paths(path, count)
    for one in paths:
        check_target(one, overwrite=overwrite)
    for one, picture in zip(paths, pictures, strict=True):
        picture.save(one, overwrite=overwrite)
    return paths


def save_animated(
    pictures: Iterable[Picture], path: str | os.PathLike[str], count: int, *,
    milliseconds: int = 100, overwrite: bool = False,
) -> None:  # fmt: skip
    """Write ``count`` pictures of one size as one animated PNG, each shown for ``milliseconds``.

    Programs that know no animation show the first. Raises ExistingFile, AccessError; FormatError
    for another ending than .png; LookError for pictures of different size.
    """
    if not os.fspath(path).lower().endswith(".png"):
        raise FormatError(f"{os.fspath(path)}: moving pictures are written as .png")
    if not 1 <= milliseconds <= 65535:
        raise LookError(f"milliseconds {milliseconds}: expected 1 to 65535")
    check_target(os.fspath(path), overwrite=overwrite)
    waiting = iter(pictures)
    first = next(waiting)
    frames = (one.rgba for one in itertools.chain([first], waiting))
    text = {"Description": first.description, "Software": "Spectrane"}
    data = encode_animated_png(frames, count, text, milliseconds)
    with written_whole(path, overwrite=overwrite) as file:
        file.write(data)
