"""Static catalogues: documents that link to one another, in folders, archives and on the web."""

from __future__ import annotations

import os
import zipfile
from collections.abc import Iterator, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

from spectrane.catalogs.areas import SoughtArea, geometry_on
from spectrane.catalogs.dates import Span, open_end, read_moment
from spectrane.catalogs.items import Item, box_geometry, item_of, resolved
from spectrane.engine.documents import read_json
from spectrane.engine.folders import Folder
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.registry import open_file
from spectrane.model.addresses import has_ending, is_address, is_web
from spectrane.model.errors import AccessError, FormatError, LookError, SpectraneError

_MOST = 200_000
"""Documents that are followed."""
_TOGETHER = 8
_ROOTS = ("catalog.json", "collection.json", "item_collection.json")


@dataclass
class Wanted:
    """What is looked for, and what is to be told of how it went."""

    area: SoughtArea | None = None
    span: Span = field(default_factory=Span)
    collections: tuple[str, ...] = ()
    progress: Progress = no_progress
    options: Mapping[str, Any] | None = None
    notes: list[str] = field(default_factory=list)


def root_of(place: str, options: Mapping[str, Any] | None = None) -> str:
    """Return the document a catalogue begins with: itself, or that of a folder or archive.

    Empty for a folder of this machine without one. Raises FormatError for an archive, or a folder
    of a storage, without one.
    """
    far = is_address(place) and not is_web(place)
    folder = open_file(place, options) if far or os.path.isdir(place) else None
    if isinstance(folder, Folder):
        first = next((name for name in _ROOTS if folder.holds(name)), None)
        if first is None and far:
            raise _no_catalogue(place)
        return folder.path_of(first) if first else ""
    if not has_ending(place, ".zip"):
        return place
    names = _names_in(place)
    found = [name for name in names if os.path.basename(name) in _ROOTS]
    if not found:
        raise _no_catalogue(place)
    first = min(found, key=lambda name: (name.count("/"), _ROOTS.index(os.path.basename(name))))
    where = place if "://" in place else os.path.abspath(place)
    return f"zip://{first}::{where}"


def _no_catalogue(place: str) -> FormatError:
    return FormatError(f"{place}: holds no catalogue: no {', '.join(_ROOTS)}")


def _names_in(place: str) -> list[str]:
    if "://" in place:
        import fsspec

        try:
            return list(fsspec.filesystem("zip", fo=place).find(""))
        except Exception as error:
            raise AccessError(f"{place}: cannot be read as an archive: {error}") from error
    try:
        with zipfile.ZipFile(place) as archive:
            return archive.namelist()
    except (OSError, zipfile.BadZipFile) as error:
        raise FormatError(f"{place}: cannot be read as an archive: {error}") from error


def walked(root: Any, place: str, wanted: Wanted) -> Iterator[Item]:
    """Yield the items of a document and of all that it links to, in their order.

    What cannot be read below the root is told in the notes, and the rest goes on.
    """
    yield from _walk(root, place, wanted, None, {place}, 0)


def _walk(
    document: Any, place: str, wanted: Wanted, collection: Mapping[str, Any] | None,
    seen: set[str], depth: int,
) -> Iterator[Item]:  # fmt: skip
    kind = document.get("type") if isinstance(document, Mapping) else None
    if kind == "Feature":
        yield item_of(document, place, collection)
        return
    if kind == "FeatureCollection":
        yield from listed_items(document, place, wanted, collection)
        return
    if kind not in ("Catalog", "Collection"):
        raise FormatError(f"{place}: is no catalogue: expected a Catalog, Collection or Feature of "
                          f"STAC, not type {kind!r}")  # fmt: skip
    if kind == "Collection":
        collection = document
        if not _may_hold(document, place, wanted):
            return
    links = [one for one in document.get("links") or [] if isinstance(one, Mapping)]
    items = _new([resolved(str(one.get("href")), place) for one in links
                  if one.get("rel") == "item" and one.get("href")], seen, place)  # fmt: skip
    for where, held in _read_all(items, wanted):
        yield from _careful(held, where, wanted, collection, seen, depth)
    below = _new([resolved(str(one.get("href")), place) for one in links
                  if one.get("rel") == "child" and one.get("href")], seen, place)  # fmt: skip
    if depth > 64:
        wanted.notes.append(f"{place}: catalogues more than 64 deep are not followed")
        return
    for where, held in _read_all(below, wanted):
        yield from _careful(held, where, wanted, collection, seen, depth + 1)


def _careful(
    held: Any, where: str, wanted: Wanted, collection: Mapping[str, Any] | None, seen: set[str],
    depth: int,
) -> Iterator[Item]:  # fmt: skip
    """Walk a document; what is wrong with it is told."""
    if isinstance(held, SpectraneError):
        wanted.notes.append(str(held))
        return
    try:
        yield from _walk(held, where, wanted, collection, seen, depth)
    except FormatError as error:
        wanted.notes.append(str(error))


def _new(places: list[str], seen: set[str], place: str) -> list[str]:
    """Return places that were not followed yet."""
    fresh = [one for one in dict.fromkeys(places) if one not in seen]
    if len(seen) + len(fresh) > _MOST:
        raise FormatError(f"{place}: links to more than {_MOST} documents; search a part of it")
    seen.update(fresh)
    return fresh


def _read_all(places: list[str], wanted: Wanted) -> Iterator[tuple[str, Any]]:
    """Yield documents in order, several of the web read at once; an error in place of one."""

    def read(place: str) -> Any:
        try:
            return read_json(place, wanted.options)
        except SpectraneError as error:
            return error

    if not any(is_web(place) for place in places):
        found: Iterator[Any] = map(read, places)
        for number, (place, held) in enumerate(zip(places, found, strict=True), 1):
            wanted.progress(number, len(places))
            yield place, held
        return
    with ThreadPoolExecutor(_TOGETHER) as pool:
        for number, (place, held) in enumerate(zip(places, pool.map(read, places), strict=True), 1):
            wanted.progress(number, len(places))
            yield place, held


def listed_items(
    document: Mapping[str, Any], place: str, wanted: Wanted,
    collection: Mapping[str, Any] | None = None,
) -> Iterator[Item]:  # fmt: skip
    """Yield the items of a list of them, each from its own place where it links to itself.

    What cannot be read is told in the notes.
    """
    for one in document.get("features") or []:
        try:
            links = one.get("links") if isinstance(one, Mapping) else None
            own = next((str(link["href"]) for link in links or [] if isinstance(link, Mapping)
                        and link.get("rel") == "self" and link.get("href")), None)  # fmt: skip
            yield item_of(one, place if own is None else resolved(own, place), collection)
        except FormatError as error:
            wanted.notes.append(str(error))


def _may_hold(collection: Mapping[str, Any], place: str, wanted: Wanted) -> bool:
    """Tell whether a collection may hold what is wanted.

    By its name; on the web, where each item is a request, by its extent too, which is told.
    """
    name = str(collection.get("id") or place)
    if wanted.collections and name not in wanted.collections:
        return False
    if not is_web(place):
        return True
    extent = collection.get("extent")
    said: Mapping[str, Any] = extent if isinstance(extent, Mapping) else {}
    spatial, temporal = said.get("spatial"), said.get("temporal")
    boxes = spatial.get("bbox") if isinstance(spatial, Mapping) else None
    times = temporal.get("interval") if isinstance(temporal, Mapping) else None
    if not _in_space(boxes, wanted.area):
        wanted.notes.append(f"collection {name}: passed over, its extent does not meet the area")
        return False
    if not _in_time(times, wanted.span):
        wanted.notes.append(f"collection {name}: passed over, it is of another time")
        return False
    return True


def _in_space(boxes: Any, area: SoughtArea | None) -> bool:
    if area is None or not isinstance(boxes, list) or not boxes:
        return True
    for box in boxes:
        if not isinstance(box, list) or len(box) not in (4, 6):
            return True
        half = len(box) // 2
        try:
            shape = geometry_on(area, box_geometry(box[0], box[1], box[half], box[half + 1]))
        except (LookError, TypeError):
            return True
        if shape.intersects(area.shape):
            return True
    return False


def _in_time(times: Any, span: Span) -> bool:
    if not isinstance(times, list) or not times:
        return True
    for one in times:
        if not isinstance(one, list) or len(one) != 2:
            return True
        start, end = (None if open_end(side) else read_moment(side) for side in one)
        if span.meets(start, end):
            return True
    return False
