"""Scenes of catalogues: found, opened, brought home; and items written of rasters of one's own."""

from __future__ import annotations

import os
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any

from spectrane.engine.bars import ProgressLike, told_progress
from spectrane.kernels.quiet import quiet
from spectrane.model.addresses import FilePath
from spectrane.model.source import flat_source_of

if TYPE_CHECKING:
    from datetime import date
    from typing import TypeAlias

    import pandas

    from spectrane.catalogs.items import Item
    from spectrane.model.asking import ShapeLike
    from spectrane.model.grid import CrsLike, Grid
    from spectrane.raster import Raster

    Sought: TypeAlias = Sequence[float] | Raster | Grid | ShapeLike
    DateLike: TypeAlias = str | date


@quiet
def scenes(
    catalog: FilePath, *, over: Sought | None = None, over_crs: CrsLike | None = None,
    start: DateLike | None = None, end: DateLike | None = None, cloud: float | None = None,
    first: int | None = None,
    collections: Sequence[str] = (), measure_cloud: bool | None = None,
    progress: ProgressLike = None, storage_options: Mapping[str, Any] | None = None,
) -> pandas.DataFrame:  # fmt: skip
    """Return the scenes of a catalogue, a row each: those found, the best first, then the others
    with why they are left out.

    ``catalog`` is a STAC catalogue, collection or search (1.0 and 1.1): a document, a folder, a
    ``.zip``, or a URL, with the ``storage_options`` of its kind; or a folder of rasters. ``over``
    is what shall be seen: bounds (west, south, east, north), a raster, a file, or a shape as
    ``clip`` takes it (in ``over_crs``). ``start`` and ``end`` are dates and both belong to the
    span: a day, a month or a year means all of it, in UTC. ``cloud`` is the most, in percent; a
    scene that says none is kept, and stands last. ``first`` keeps so many. ``measure_cloud`` reads
    masks to tell the clouds over the area alone: None reads those at hand, True those of the web
    too.

    Ranked by the share of the area that is seen, then by cloud, then the newest. Columns: ``rank id
    date share cloud cloud_over in_fewest collection left_out note href item``; ``open`` takes an
    ``item``. ``attrs`` hold ``fewest``, the ids of the fewest scenes that show all that can be
    seen, ``covered``, the share of the area they show, and ``notes``. Raises LookError for what is
    no area or date, FormatError, MissingFile and AccessError for a catalogue that cannot be read.

    >>> import json, pathlib, spectrane as sp, tempfile
    >>> square = [[[0, 0], [2, 0], [2, 2], [0, 2], [0, 0]]]
    >>> scene = {"type": "Feature", "stac_version": "1.1.0", "id": "a", "assets": {}, "links": [],
    ...     "geometry": {"type": "Polygon", "coordinates": square}, "bbox": [0, 0, 2, 2],
    ...     "properties": {"datetime": "2026-04-12T10:30:00Z", "eo:cloud_cover": 5}}
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     path = pathlib.Path(folder, "a.json")
    ...     _ = path.write_text(json.dumps(scene))
    ...     table = sp.scenes(path, over=(1, 0, 3, 2), start="2026-04-12", end="2026-04-12")
    >>> table[["rank", "id", "cloud"]].values.tolist(), round(float(table["share"][0]), 2)
    ([[1, 'a', 5.0]], 0.5)
    """
    import pandas

    from spectrane.catalogs.finding import find_scenes

    found = find_scenes(
        os.fspath(catalog), over=over, over_crs=over_crs, start=start, end=end, cloud=cloud,
        first=first, collections=collections, measure_cloud=measure_cloud,
        progress=told_progress(progress), storage_options=storage_options,
    )  # fmt: skip
    table = pandas.DataFrame(found.rows(), columns=_COLUMNS)
    table["rank"] = table["rank"].astype("Int64")
    items: Any = [scene.item for scene in (*found.found, *found.left_out)]
    table["item"] = pandas.Series(items, dtype=object)
    table.attrs |= {
        "fewest": [scene.item.id for scene in found.fewest], "covered": found.covered,
        "notes": list(found.notes),
    }  # fmt: skip
    return table


_COLUMNS = ["rank", "id", "date", "share", "cloud", "cloud_over", "in_fewest", "collection",
            "left_out", "note", "href"]  # fmt: skip


@quiet
def fetch(
    item: Item, folder: FilePath, *, assets: Sequence[str] | None = None, overwrite: bool = False,
    progress: ProgressLike = None,
) -> list[str]:  # fmt: skip
    """Bring a scene's assets into a folder, with a document that opens there; return the paths.

    ``assets`` are keys, or names or roles of bands; None takes all that hold measured values, masks
    and the small picture. What is there whole is kept; a file that was cut short goes on. Raises
    BandError for an asset there is not, ExistingFile, and what reading raises.

    >>> import spectrane as sp, numpy as np, pathlib, tempfile
    >>> grid = sp.Grid.from_corner((4, 5), x=500000, y=7e6, pixel_size=10, crs="EPSG:32727")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     sp.from_array(np.ones((4, 5), "u1"), grid=grid).save(pathlib.Path(folder, "a.tif"))
    ...     item = sp.scenes(folder)["item"][0]
    ...     paths = sp.fetch(item, pathlib.Path(folder, "home"))
    ...     sp.open(paths[0]).shape
    (1, 4, 5)
    """
    from spectrane.catalogs.fetching import fetch_item

    return fetch_item(item, os.fspath(folder), assets=assets, overwrite=overwrite,
                      progress=told_progress(progress))  # fmt: skip


@quiet
def to_item(raster: Raster, href: FilePath | None = None) -> dict[str, Any]:
    """Return a STAC Item (1.1) of a raster as plain values: where and when it is of, its bands.

    ``href`` is how the item names the file; None takes the raster's own name. The footprint is
    where pixels are valid, at a coarse look; over the antimeridian it is cut in two. Warns where
    the raster says no date, which an item must have. Raises GridMismatch for one without a place.

    >>> import numpy as np, spectrane as sp
    >>> grid = sp.Grid.from_corner((4, 5), x=500000, y=7e6, pixel_size=10, crs="EPSG:32727")
    >>> raster = sp.from_array(np.ones((4, 5), "u1"), grid=grid)
    >>> item = sp.to_item(raster, "sound_20260412.tif")
    >>> item["properties"]["datetime"], item["assets"]["data"]["proj:code"]
    ('2026-04-12T00:00:00Z', 'EPSG:32727')
    """
    from spectrane.catalogs.writing import item_of_source

    return item_of_source(flat_source_of(raster), None if href is None else os.fspath(href))
