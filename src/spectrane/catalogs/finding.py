"""Scenes over an area: which there are, how much of it each shows under how much cloud, which few
show all of it, and why each other one is left out.
"""

from __future__ import annotations

import itertools
import os
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import field, replace
from typing import Any

from spectrane.catalogs.areas import SoughtArea, area_of, geometry_on
from spectrane.catalogs.clouds import has_mask, measured_cloud
from spectrane.catalogs.dates import Span, moment_text
from spectrane.catalogs.folders import folder_items
from spectrane.catalogs.items import Item
from spectrane.catalogs.searching import search_links, searched
from spectrane.catalogs.walking import Wanted, root_of, walked
from spectrane.engine.documents import read_json
from spectrane.engine.threads import Progress, no_progress
from spectrane.kernels.records import record
from spectrane.model.addresses import is_web
from spectrane.model.errors import FormatError, LookError

_LEAST = 5e-4
"""A scene that shows a smaller share of the area misses it; a smaller rest of it is none."""
_EXACT = 14
"""Of so many scenes the fewest are found by trying; of more, one after another by what it adds."""


@record(frozen=True)
class Scene:
    """A scene that was looked at. ``share`` (0…1) of the area it shows, None where nobody knows;
    ``cloud`` percent of all of it, ``cloud_over`` of the area where its mask says so.
    ``left_out`` says why it is not among those found; empty where it is.
    """

    item: Item
    share: float | None = None
    cloud_over: float | None = None
    left_out: str = ""
    shape: Any = field(default=None, repr=False, compare=False)
    """Its geometry on the area's equal-area map."""

    @property
    def cloud(self) -> float | None:
        """Its cloud over the area where that is known, else over all of it; None for neither."""
        return self.item.cloud if self.cloud_over is None else self.cloud_over


@record(frozen=True)
class Scenes:
    """What was found: the best first, then those left out; and the fewest that show all there is.

    ``covered`` is the share of the area that they show together.
    """

    catalog: str
    area: SoughtArea | None
    span: Span
    found: tuple[Scene, ...]
    left_out: tuple[Scene, ...]
    fewest: tuple[Scene, ...]
    covered: float | None
    notes: tuple[str, ...]

    def rows(self) -> list[dict[str, Any]]:
        """Return a row for each scene, those found first."""
        few = {one.item.id for one in self.fewest}
        return [
            {
                "rank": rank if not scene.left_out else None, "id": scene.item.id,
                "date": None if scene.item.date is None else moment_text(scene.item.date),
                "share": scene.share, "cloud": scene.item.cloud, "cloud_over": scene.cloud_over,
                "in_fewest": scene.item.id in few, "collection": scene.item.collection,
                "left_out": scene.left_out, "note": "; ".join(scene.item.notes),
                "href": scene.item.href,
            }
            for rank, scene in enumerate((*self.found, *self.left_out), 1)
        ]  # fmt: skip


def find_scenes(
    catalog: str, *, over: Any = None, over_crs: Any = None, start: Any = None, end: Any = None,
    cloud: float | None = None, first: int | None = None, collections: Sequence[str] = (),
    measure_cloud: bool | None = None, progress: Progress = no_progress,
    storage_options: Mapping[str, Any] | None = None,
) -> Scenes:  # fmt: skip
    """Look through a catalogue: see ``spectrane.scenes``, which has the same arguments."""
    if cloud is not None and (isinstance(cloud, bool) or not 0 <= cloud <= 100):
        raise LookError(f"cloud {cloud!r}: expected percent, 0 to 100")
    if first is not None and (isinstance(first, bool) or first < 1):
        raise LookError(f"first {first!r}: expected 1 or more")
    area = None if over is None else area_of(over, crs=over_crs)
    wanted = Wanted(area, Span.of(start, end), tuple(collections), progress, storage_options)
    place = os.fspath(catalog)
    seen: set[tuple[str | None, str]] = set()
    scenes = []
    for item in _items(place, wanted):
        if (item.collection, item.id) in seen:
            wanted.notes.append(f"{item.id}: stands in the catalogue twice; the first is taken")
            continue
        seen.add((item.collection, item.id))
        item = replace(item, options=storage_options) if storage_options else item
        scenes.append(_judged(item, wanted, cloud, measure_cloud))
    found = sorted((one for one in scenes if not one.left_out), key=_rank)
    rest = [one for one in scenes if one.left_out]
    if first is not None:
        rest = [*(replace(one, left_out=f"not among the first {first}")
                  for one in found[first:]), *rest]  # fmt: skip
        found = found[:first]
    few, covered = ([], None) if area is None else fewest(found, area)
    return Scenes(place, area, wanted.span, tuple(found), tuple(rest), tuple(few), covered,
                  tuple(wanted.notes))  # fmt: skip


def _items(place: str, wanted: Wanted) -> Iterator[Item]:
    """Yield what a catalogue holds, whatever kind it is."""
    root = root_of(place, wanted.options)
    if not root:
        yield from folder_items(place, wanted)
        return
    document = read_json(root, wanted.options)
    if search_links(document, root):
        yield from searched(document, root, wanted)
        return
    count = 0
    for item in walked(document, root, wanted):
        count += 1
        yield item
    if not count and is_web(root) and isinstance(document, dict) and "conformsTo" in document:
        raise FormatError(f"{root}: the server offers no search (a link with rel=search), and "
                          "links to no items")  # fmt: skip
    if not count and not wanted.notes:
        wanted.notes.append(f"{place}: holds no items")


def _judged(
    item: Item, wanted: Wanted, cloud: float | None, measure_cloud: bool | None
) -> Scene:  # fmt: skip
    """Return a scene with its share and clouds, or with why it is left out."""
    share, shape = None, None
    if wanted.collections and item.collection not in wanted.collections:
        return Scene(item, left_out=f"of collection {item.collection or 'none'}")
    if wanted.area is not None:
        if item.geometry is None:
            return Scene(item, left_out="says not where it lies")
        try:
            shape = geometry_on(wanted.area, item.geometry)
        except LookError as error:
            return Scene(item, left_out=str(error))
        share = wanted.area.share(shape)
        if share < _LEAST:
            return Scene(item, share, left_out="misses the area", shape=shape)
    scene = Scene(item, share, shape=shape)
    late = _out_of_time(item, wanted.span)
    if late:
        return replace(scene, left_out=late)
    if wanted.area is not None and has_mask(item) and _may_measure(item, measure_cloud):
        over, problem = measured_cloud(item, wanted.area)
        if problem:
            wanted.notes.append(f"{item.id}: its clouds over the area are not known: {problem}")
        scene = replace(scene, cloud_over=over)
    if cloud is not None and scene.cloud is not None and scene.cloud > cloud:
        where = "" if scene.cloud_over is None else " over the area"
        return replace(scene, left_out=f"cloud {scene.cloud:.3g} %{where}, more than {cloud:g}")
    return scene


def _may_measure(item: Item, asked: bool | None) -> bool:
    """Tell whether masks are read: those at hand, and of the web only where it is asked for."""
    if asked is not None:
        return asked
    return not any(is_web(asset.href) for asset in item.assets.values() if asset.is_mask)


def _out_of_time(item: Item, span: Span) -> str:
    if span.start is None and span.end is None:
        return ""
    if item.start is None and item.end is None:
        return "says not when it was taken"
    if span.meets(item.start, item.end):
        return ""
    late = span.end is not None and item.start is not None and item.start > span.end
    end = span.end if late else span.start
    said = moment_text(end).removesuffix("T00:00:00Z").removesuffix("T23:59:59.999999Z")
    return f"taken after {said}" if late else f"taken before {said}"


def _rank(scene: Scene) -> tuple[Any, ...]:
    """Return what scenes are ordered by: share, then cloud (unknown last), then the newest."""
    share = -round(scene.share, 3) if scene.share is not None else 0.0
    cloud = 101.0 if scene.cloud is None else scene.cloud
    date = scene.item.date
    # A scene without a date comes after those with one.
    newest = -date.timestamp() if date is not None else float("inf")
    return share, scene.cloud is None, cloud, newest, scene.item.id


def fewest(scenes: Sequence[Scene], area: SoughtArea) -> tuple[list[Scene], float]:
    """Return the fewest scenes that show all of the area that all of them do, and that share.

    Of several sets as small, the one whose scenes stand highest in the order they are given in.
    """
    import shapely

    known = [one for one in scenes if one.shape is not None]
    if not known:
        return [], 0.0
    parts = [shapely.intersection(area.shape, one.shape) for one in known]
    everything = shapely.union_all(parts)
    covered = area.share(everything)

    def shows_all(chosen: Sequence[int]) -> bool:
        together = shapely.union_all([parts[k] for k in chosen])
        return area.share(together) >= covered - _LEAST

    if len(known) <= _EXACT:
        for count in range(1, len(known) + 1):
            for chosen in itertools.combinations(range(len(known)), count):
                if shows_all(chosen):
                    return [known[k] for k in chosen], covered
    return [known[k] for k in _one_by_one(parts, area, covered)], covered


def _one_by_one(parts: Sequence[Any], area: SoughtArea, covered: float) -> list[int]:
    """Return places of scenes, each the one that adds most to those before."""
    import shapely

    chosen: list[int] = []
    together = shapely.Polygon()
    while len(chosen) < len(parts) and area.share(together) < covered - _LEAST:
        left = [k for k in range(len(parts)) if k not in chosen]
        gains = [area.share(shapely.union(together, parts[k])) for k in left]
        best = left[max(range(len(left)), key=lambda k: (gains[k], -k))]
        chosen.append(best)
        together = shapely.union(together, parts[best])
    return sorted(chosen)
