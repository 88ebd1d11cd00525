"""A folder of rasters as a catalogue: each is a scene, its footprint where pixels are valid."""

from __future__ import annotations

import os
import warnings
from collections.abc import Iterator
from contextlib import closing

from spectrane.catalogs.footprints import valid_parts
from spectrane.catalogs.items import Item, item_of
from spectrane.catalogs.walking import Wanted
from spectrane.catalogs.writing import item_document
from spectrane.formats.registry import open_source
from spectrane.model.errors import GridMismatch, SpectraneError
from spectrane.model.marks import is_picture
from spectrane.surveying import surveyed_files


def folder_items(folder: str, wanted: Wanted) -> Iterator[Item]:
    """Yield an item for every raster below a folder; volumes and what has no place are told."""
    for one in surveyed_files(folder, wanted.progress):
        if one.problem:
            wanted.notes.append(f"{one.path}: {one.problem}")
        elif one.planes is None:
            yield from _item(one.path, folder, wanted)


def _item(path: str, folder: str, wanted: Wanted) -> Iterator[Item]:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # told when the scene is opened
            with closing(open_source(path)) as source:
                if is_picture(source):
                    wanted.notes.append(f"{path}: is a display picture and not data")
                    return
                document = item_document(source, os.path.abspath(path), parts=valid_parts(source))
    except GridMismatch:
        wanted.notes.append(f"{path}: has no place on the earth")
        return
    except SpectraneError as error:
        wanted.notes.append(str(error))
        return
    document["id"] = os.path.relpath(path, folder).replace(os.sep, "/")
    yield item_of(document, os.path.abspath(path))
