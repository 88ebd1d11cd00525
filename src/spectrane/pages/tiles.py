"""Web-map tiles of layers: 256 x 256 PNG, in web Mercator or in longitude and latitude.

The matrices are those of OGC's Two Dimensional Tile Matrix Set (17-083r4): WebMercatorQuad and
WorldCRS84Quad. The finest zoom is drawn from the layers; each tile above is the mean of the four
below it, so that every pixel of the data is read once. Tiles without anything in them are left out.
"""

from __future__ import annotations

import math
import os
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.display.layers import (
    AnyLayer,
    PlannedLayer,
    StackArea,
    base_grid,
    common_grid,
    planned,
    stacked,
    to_read,
)
from spectrane.engine.bars import ProgressLike, told_progress
from spectrane.engine.files import open_bytes
from spectrane.engine.resuming import fingerprint
from spectrane.engine.running import in_order
from spectrane.engine.threads import Progress, in_parallel
from spectrane.formats.png.encoding import encode_png
from spectrane.formats.registry import open_with, reader_of
from spectrane.kernels.quiet import quiet
from spectrane.kernels.records import record
from spectrane.model.errors import AccessError, GridMismatch, LookError
from spectrane.model.grid import Bounds, Grid
from spectrane.model.regular_files import reason_of
from spectrane.model.systems import same_system
from spectrane.model.targets import local_folder
from spectrane.model.telling import warn_caller
from spectrane.model.trials import now_trying
from spectrane.model.view import View
from spectrane.model.whole_files import written_whole
from spectrane.model.window import whole
from spectrane.pages.tile_list import TileList
from spectrane.pages.tile_matrices import (
    HALF,
    SCHEMES,
    TILE,
    Scheme,
    Tile,
    TileScheme,
    write_documents,
)
from spectrane.spatial.coordinates import Mapping as Coordinates
from spectrane.spatial.coordinates import transformer
from spectrane.spatial.grids import lonlat_bounds

if TYPE_CHECKING:
    from spectrane.looking import Shown


DEEPEST = 24
_FURTHEST = 85.0511287798066


@record(frozen=True)
class TilesDone:
    """What was written: how many tiles, of which zooms, and over what (longitude, latitude)."""

    count: int
    zooms: tuple[int, int]
    bounds: Bounds


@record(frozen=True)
class TileDrawer:
    """Draws one tile of layers; picklable, so that a cluster's workers can."""

    layers: tuple[AnyLayer, ...]
    scheme: Scheme

    def __call__(self, tile: Tile) -> bytes | None:
        """Return a tile's PNG, or None where nothing is in it."""
        rgba = self.drawn(tile)
        return encode_png(rgba, {}, small=True) if rgba[..., 3].any() else None

    def drawn(self, tile: Tile) -> Rgba:
        """Return a tile's picture."""
        try:
            return to_read(stacked(self.layers, grid=self.scheme.grid(tile), tell=False))
        except GridMismatch:
            return np.zeros((TILE, TILE, 4), np.uint8)


@quiet
def tiles(
    layers: Sequence[Shown], folder: str | os.PathLike[str], *, scheme: TileScheme = "mercator",
    zooms: Sequence[int] | None = None, title: str | None = None, attribution: str = "",
    view: View | None = None, overwrite: bool = False, engine: str | None = None,
    progress: ProgressLike = None, area: StackArea = "bottom",
    storage_options: Mapping[str, Any] | None = None,
) -> TilesDone:  # fmt: skip
    """Write layers as web-map tiles into a folder: ``ZOOM/COLUMN/ROW.png``, with TileJSON 3.0.0
    (``tiles.json``) and a WMTS 1.0.0 capabilities document (``wmts.xml``).

    ``scheme`` is ``mercator`` or ``geographic``; ``zooms`` (first, last), None takes those that
    show the first raster whole up to its own resolution. ``view`` bounds the area, which is what
    the lowest raster covers, or with ``area="union"`` all of them. Limits are found once per
    raster, from all of it. A run that was killed goes on from the tiles that are there. ``folder``
    may be an fsspec URL with the ``storage_options`` of its kind: tiles are sent there at the end.

    Raises GridMismatch for layers without a place, ExistingFile for a folder with other tiles.

    >>> import numpy as np, spectrane as sp, tempfile
    >>> grid = sp.Grid.from_corner((8, 8), x=10, y=8, pixel_size=1, crs="EPSG:4326")
    >>> with tempfile.TemporaryDirectory() as folder:
    ...     raster = sp.from_array(np.arange(64.0).reshape(8, 8), grid=grid)
    ...     sp.pages.tiles([raster], folder, zooms=(3, 3)).count
    1
    """
    progress = told_progress(progress)
    if scheme not in SCHEMES:
        raise LookError(f"scheme {scheme!r}: expected {', '.join(SCHEMES)}")
    plan = SCHEMES[scheme]
    ready = planned(layers)
    rasters = [one for one in ready if isinstance(one, PlannedLayer)]
    if not rasters:
        raise LookError("tiles: expected at least one raster")
    first = base_grid(rasters, area)
    if not first.placed or first.crs_text is None:
        raise GridMismatch("tiles: the first raster has no place in a known coordinate system; "
                           "give it one (spectrane place, spectrane amend --crs)")  # fmt: skip
    seen = common_grid(first, view, None) if view is not None else first
    bounds = _reach(seen, plan)
    span = _checked_zooms(tuple(zooms)) if zooms is not None else _fitting_zooms(seen, plan)
    named = title or rasters[0].layer.title
    drawer = TileDrawer(tuple(ready), plan)
    with local_folder(folder, overwrite=overwrite, storage_options=storage_options) as root:
        lonlat = lonlat_bounds(seen)

        def documents() -> None:
            write_documents(root, plan, span, lonlat, named, attribution)

        count = _written(drawer, root, span, bounds, overwrite, engine, progress, documents)
    if not count and now_trying() is None:
        _tell_of_nothing(named, span, _fitting_zooms(seen, plan))
    return TilesDone(count, span, lonlat)


def _tell_of_nothing(name: str, span: tuple[int, int], fitting: tuple[int, int]) -> None:
    said = f"zoom {span[0]}" if span[0] == span[1] else f"zooms {span[0]} to {span[1]}"
    told = f"{name}: no tile of {said} has anything in it"
    if span[1] < fitting[0]:
        told += f": their pixels are larger than all of it; zooms {fitting[0]} to {fitting[1]} fit"
    warn_caller(told)


def _written(
    drawer: TileDrawer, root: str, span: tuple[int, int], bounds: Bounds, overwrite: bool,
    engine: str | None, progress: Progress, documents: Callable[[], None],
) -> int:  # fmt: skip
    """Write the tiles of all zooms, then their documents; return how many tiles there are."""
    plan = drawer.scheme
    wanted = list(_tiles(plan, bounds, span[1]))
    total = sum(_count(plan, bounds, zoom) for zoom in range(span[0], span[1] + 1))
    trial = now_trying()
    if trial is not None:
        trial.planned[os.path.abspath(root)] = _tried(drawer, wanted, total)
        return total
    log = TileList(root, fingerprint(drawer, span, bounds), overwrite)
    try:
        present = _draw_finest(
            drawer, wanted, root, log, engine, lambda done: progress(done, total)
        )
    except BaseException:
        log.abandon()
        raise
    done = len(wanted)
    count = len(present)
    for zoom in range(span[1] - 1, span[0] - 1, -1):
        here = list(_tiles(plan, bounds, zoom))
        present = _draw_above(root, here, present, log)
        done += len(here)
        count += len(present)
        progress(done, total)
    documents()
    log.finish()
    return count


def _tried(drawer: TileDrawer, wanted: Sequence[Tile], total: int) -> dict[str, int | float]:
    """Draw a few tiles, and reckon bytes and seconds of all from them."""
    few = wanted[:: max(1, len(wanted) // 4)][:4]
    begun = time.perf_counter()
    sizes = [len(drawer(tile) or b"") for tile in few]
    taken = (time.perf_counter() - begun) / max(1, len(few))
    size = sum(sizes) / max(1, len(few))
    return {"bytes": round(size * total), "seconds": round(taken * len(wanted), 2)}


def _draw_finest(
    drawer: TileDrawer, wanted: Sequence[Tile], root: str, log: TileList, engine: str | None,
    told: Callable[[int], None],
) -> set[Tile]:  # fmt: skip
    """Draw the finest zoom's tiles, some at a time side by side."""
    present = {tile for tile in wanted if log.done.get(tile)}
    left = [tile for tile in wanted if tile not in log.done]
    done = len(wanted) - len(left)
    if engine not in (None, "threads"):
        for tile, png in zip(left, in_order(drawer, left, engine), strict=True):
            _keep(root, tile, png)
            log.add([(tile, png is not None)])
            present |= {tile} if png is not None else set()
            done += 1
            told(done)
        return present
    for start in range(0, len(left), 16):
        batch = left[start : start + 16]
        made: dict[Tile, bool] = {}

        def one(tile: Tile, made: dict[Tile, bool] = made) -> None:
            png = drawer(tile)
            _keep(root, tile, png)
            made[tile] = png is not None

        in_parallel(batch, lambda: one)
        log.add(sorted(made.items()))
        present |= {tile for tile, full in made.items() if full}
        done += len(batch)
        told(done)
    return present


def _draw_above(root: str, wanted: Sequence[Tile], below: set[Tile], log: TileList) -> set[Tile]:
    """Make each tile of a zoom from the four below it."""
    present = {tile for tile in wanted if log.done.get(tile)}
    left = [tile for tile in wanted if tile not in log.done]
    made: dict[Tile, bool] = {}

    def one(tile: Tile) -> None:
        zoom, column, row = tile
        four = np.zeros((2 * TILE, 2 * TILE, 4), np.uint8)
        for dr in (0, 1):
            for dc in (0, 1):
                child = (zoom + 1, 2 * column + dc, 2 * row + dr)
                if child in below:
                    where = (slice(dr * TILE, (dr + 1) * TILE), slice(dc * TILE, (dc + 1) * TILE))
                    four[where] = _read(root, child)
        rgba = halved_tile(four)
        full = bool(rgba[..., 3].any())
        _keep(root, tile, encode_png(rgba, {}, small=True) if full else None)
        made[tile] = full

    in_parallel(left, lambda: one)
    log.add(sorted(made.items()))
    return present | {tile for tile, full in made.items() if full}


def halved_tile(rgba: Rgba) -> Rgba:
    """Return a picture of half the size: means of colours by their alpha.

    >>> halved_tile(np.array([[[200, 0, 0, 255], [0, 0, 0, 0]]] * 2, np.uint8)).tolist()
    [[[200, 0, 0, 128]]]
    """
    rows, columns = rgba.shape[0] // 2, rgba.shape[1] // 2
    wide = rgba.astype(np.uint32)
    color = wide[..., :3] * wide[..., 3:]
    sums = color.reshape(rows, 2, columns, 2, 3).sum(axis=(1, 3))
    alpha = wide[..., 3].reshape(rows, 2, columns, 2).sum(axis=(1, 3))
    out = np.empty((rows, columns, 4), np.uint8)
    safe = np.maximum(alpha, 1)[..., np.newaxis]
    out[..., :3] = (sums + safe // 2) // safe
    out[..., 3] = (alpha + 2) // 4
    return out


def _name(root: str, tile: Tile) -> str:
    zoom, column, row = tile
    return os.path.join(root, str(zoom), str(column), f"{row}.png")


def _keep(root: str, tile: Tile, png: bytes | None) -> None:
    if png is None:
        return
    name = _name(root, tile)
    try:
        os.makedirs(os.path.dirname(name), exist_ok=True)
    except OSError as error:
        raise AccessError(f"{name}: cannot be written: {reason_of(error)}") from error
    with written_whole(name, overwrite=True) as file:
        file.write(png)


def _read(root: str, tile: Tile) -> NDArray[np.uint8]:
    file = open_bytes(_name(root, tile))
    source = open_with(reader_of(file)[1], file)
    pixels = source.read(range(3), whole(source.shape))
    out = np.full((TILE, TILE, 4), 255, np.uint8)
    out[..., :3] = np.moveaxis(pixels.values, 0, -1)
    if pixels.alpha is not None:
        out[..., 3] = pixels.alpha
    source.close()
    return out


def _reach(area: Grid, plan: Scheme) -> Bounds:
    """Return an area's bounds in the scheme's system; round the globe they run on beyond its edge.

    Raises GridMismatch for what lies outside what the scheme covers.
    """
    if area.crs_text is not None and same_system(area.crs_text, plan.crs) and area.turn is None:
        bounds = area.bounds
        west, east = max(bounds[0], plan.bounds[0]), min(bounds[2], plan.bounds[2])
    else:
        west, south, east, north = bounds = lonlat_bounds(area)
        if plan.name == "mercator":
            south, north = max(south, -_FURTHEST), min(north, _FURTHEST)
            scale = HALF / 180
            west, east = west * scale, east * scale
            bounds = (west, _mercator(south), east, _mercator(north))
    low, high = max(bounds[1], plan.bounds[1]), min(bounds[3], plan.bounds[3])
    if west >= east or low >= high:
        raise GridMismatch(f"tiles: the raster lies outside what {plan.well_known} covers")
    return west, low, east, high


def _mercator(latitude: float) -> float:
    return HALF / math.pi * math.log(math.tan(math.pi / 4 + math.radians(latitude) / 2))


def _checked_zooms(zooms: tuple[int, ...]) -> tuple[int, int]:
    first, last = (int(zoom) for zoom in zooms)
    if not 0 <= first <= last <= DEEPEST:
        raise LookError(f"zooms {zooms}: expected 0 <= first <= last <= {DEEPEST}")
    return first, last


def _fitting_zooms(area: Grid, plan: Scheme) -> tuple[int, int]:
    """Return the zooms from one tile for all up to about the raster's own resolution."""
    middle = Grid.from_corner((1, 1), x=0, y=0, pixel_size=1, crs=plan.crs)
    x, y = area.center(row=area.shape[0] / 2, column=area.shape[1] / 2)
    if area.crs != middle.crs:
        x, y = transformer(area, middle).transform(x, y)
    probe = Grid.from_corner((3, 3), x=x, y=y, pixel_size=plan.pixel(12), crs=plan.crs)
    scale = max(Coordinates(probe, area, 0).scales())
    last = max(0, min(DEEPEST - 1, 12 + math.floor(math.log2(max(scale, 1e-9)) + 0.5)))
    first = max(0, last - max(0, math.ceil(math.log2(max(area.shape) / TILE))))
    return first, last


def _span(plan: Scheme, bounds: Bounds, zoom: int) -> tuple[int, int, int, int]:
    side = plan.pixel(zoom) * TILE
    slack = 1e-9
    left = math.floor((bounds[0] - plan.bounds[0]) / side + slack)
    right = math.ceil((bounds[2] - plan.bounds[0]) / side - slack)
    top = math.floor((plan.bounds[3] - bounds[3]) / side + slack)
    bottom = math.ceil((plan.bounds[3] - bounds[1]) / side - slack)
    right = min(max(left + 1, right), left + (plan.across << zoom))
    return left, right, top, max(top + 1, bottom)


def _tiles(plan: Scheme, bounds: Bounds, zoom: int) -> Iterator[Tile]:
    left, right, top, bottom = _span(plan, bounds, zoom)
    for row in range(top, bottom):
        for column in range(left, right):
            yield zoom, column % (plan.across << zoom), row  # on beyond the antimeridian


def _count(plan: Scheme, bounds: Bounds, zoom: int) -> int:
    left, right, top, bottom = _span(plan, bounds, zoom)
    return (right - left) * (bottom - top)
