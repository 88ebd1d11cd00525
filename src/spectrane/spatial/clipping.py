"""Cutting a raster by polygons: what lies outside is no-data, or fades at the edge."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.engine.pyramid import Level, Whole
from spectrane.kernels.records import record
from spectrane.model.errors import GridMismatch, LookError
from spectrane.model.grid import CrsLike
from spectrane.model.pixels import Pixels, full_alpha
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, whole, window_area
from spectrane.spatial.masks import Inverted, Masked, chooser, mask_on
from spectrane.spatial.onto_pixels import polygons_of
from spectrane.spatial.polygons import Polygons
from spectrane.spatial.subset import Subset

ShapeEdge = Literal["centers", "touching"]
KEEPS: tuple[ShapeEdge, ...] = get_args(ShapeEdge)
ClipExtent = Literal["shape", "full"]
EXTENTS: tuple[ClipExtent, ...] = get_args(ClipExtent)
_LARGE = 4 << 20
_STRIP = 1 << 24


@record(frozen=True)
class Edge:
    """How a cut is made: which pixels are kept, and how the kept ones fade.

    ``keep`` is ``centers`` or ``touching``; ``outside`` keeps the rest instead; ``antialias``
    gives each pixel the share of its area as alpha, ``soft`` lets alpha rise over so many pixels.
    """

    keep: str = "centers"
    outside: bool = False
    antialias: bool = False
    soft: float = 0.0


_AS_IT_IS = Edge()


class Within(Derived, FullSource):
    """Another source with all pixels outside polygons invalid; its extent stays."""

    def __init__(self, parent: Source, polygons: Polygons, edge: Edge = _AS_IT_IS) -> None:
        faded = edge.antialias or edge.soft
        alpha = parent.alpha or ("straight" if faded else None)
        super().__init__(parent, has_mask=True, alpha=alpha)
        self.polygons, self.edge = polygons, edge

    def resolutions(self) -> Sequence[Level]:
        """Return the full resolution, and the parent's overviews cut at their own pixels."""
        levels: list[Level] = [Whole.of(self)]
        if window_area(whole(self.shape)) > _LARGE:
            levels += [_Smaller(self, shape) for shape in self.parent.overviews]
        return levels

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, masked; another size is made from the masked pixels."""
        return self._cut(window, self.parent.read(bands, window))

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks, masked."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._cut(part, pixels)

    def zone(self, window: Window) -> NDArray[np.bool_]:
        """Return where a window's pixels are kept, whether they hold a number or not."""
        return kept(self.polygons, window, self.edge)

    def _cut(self, window: Window, pixels: Pixels) -> Pixels:
        if self.edge.antialias or self.edge.soft:
            return _faded(pixels, cover(self.polygons, window, self.edge), self.dtype)
        return pixels.only(self.zone(window))


def kept(polygons: Polygons, window: Window, edge: Edge) -> NDArray[np.bool_]:
    """Return which pixels of a window a cut keeps."""
    if edge.outside:
        other = polygons.touching(window) if edge.keep == "centers" and edge.antialias else (
            polygons.inside(window))  # fmt: skip
        if edge.keep == "touching":  # what touches the outside: all but what lies wholly inside
            return np.asarray(polygons.coverage(window) < 1.0)
        return ~other
    found = polygons.touching(window) if edge.keep == "touching" else polygons.inside(window)
    return np.asarray(found)


def cover(polygons: Polygons, window: Window, edge: Edge) -> NDArray[np.float32]:
    """Return each pixel's alpha, 0...1: its share, or how far it lies from the edge."""
    if not edge.soft:
        share = polygons.coverage(window)
        return 1 - share if edge.outside else share
    from scipy.ndimage import distance_transform_edt

    margin = int(np.ceil(edge.soft)) + 1
    wide = tuple((a - margin, b + margin) for a, b in window)
    zone = kept(polygons, wide, edge)
    if zone.all():
        return np.ones(extent(window), np.float32)
    distance = distance_transform_edt(zone)[margin:-margin, margin:-margin]
    return np.asarray(np.clip((distance - 0.5) / edge.soft, 0, 1), np.float32)


def _faded(pixels: Pixels, share: NDArray[np.float32], dtype: np.dtype[Any]) -> Pixels:
    """Multiply coverage into alpha, in the type that the bands have."""
    full = full_alpha(dtype)
    if pixels.alpha is not None:
        top = full_alpha(pixels.alpha.dtype)
        share = share * (pixels.alpha / top).astype(np.float32)
    alpha = share.astype(dtype) if dtype.kind == "f" else np.ceil(share * full).astype(dtype)
    return Pixels(
        pixels.values, mask=pixels.mask, rules=pixels.rules, alpha=alpha, when=pixels.when
    )


class _Smaller:
    """One of the parent's overviews, cut by polygons at its own pixels."""

    def __init__(self, source: Within, shape: tuple[int, ...]) -> None:
        self.source, self.shape = source, shape
        self.scale = tuple(n / m for n, m in zip(source.shape, shape, strict=True))
        self.polygons = source.polygons.scaled(*self.scale)

    def read(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer one window of this level."""
        full = tuple(
            (int(np.floor(a * s)), min(n, max(int(np.floor(a * s)) + 1, round(b * s))))
            for (a, b), s, n in zip(window, self.scale, self.source.shape, strict=True)
        )
        pixels = self.source.parent.read(bands, full, extent(window), "area")
        level = Within(self.source.parent, self.polygons, self.source.edge)
        return level._cut(window, pixels)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Answer rows at a time."""
        (top, bottom), columns = window
        for row in range(top, bottom, 512):
            part = ((row, min(row + 512, bottom)), columns)
            yield part, self.read(bands, part)


def clip(
    source: Source, shape: Any, *, crs: CrsLike | None = None, keep: str = "centers",
    outside: bool = False, extent_of: str = "shape", antialias: bool = False, soft: float = 0.0,
) -> Source:  # fmt: skip
    """Return a source cut by polygons.

    ``shape`` is GeoJSON (a mapping or a path), the path of a GeoPackage, a shapely geometry,
    bounds, or what ``read_shapes`` returns, in ``crs`` or what it says itself. A pixel is kept
    where its centre lies inside (``keep="centers"``), or where its area does in part
    (``"touching"``); with ``outside``, the others. ``antialias`` and ``soft``
    (pixels) make an alpha for display. ``extent_of`` ``shape`` leaves the smallest rectangle of
    whole pixels that covers the shape, ``full`` the input's.

    Raises GridMismatch, which gives both extents, where nothing would be kept.
    """
    if keep not in KEEPS:
        raise LookError(f"keep {keep!r}: expected centers or touching")
    if extent_of not in EXTENTS:
        raise LookError(f"extent {extent_of!r}: expected shape or full")
    if not 0 <= soft < 1e5 or (soft and antialias):
        raise LookError(f"soft {soft}: expected pixels, 0 or more, and not with antialias")
    polygons = polygons_of(source.grid, shape, crs=crs)
    edge = Edge(keep, outside, antialias, float(soft))
    window = polygons.window(source.shape)
    if window is None and not outside:
        raise GridMismatch(_missed(source, polygons, "the shape lies outside the raster"))
    seen = whole(source.shape) if outside or window is None else window
    if not outside and not _any_kept(polygons, seen, edge):
        raise GridMismatch(_missed(
            source, polygons, "no pixel's centre lies in the shape; keep=touching keeps more"
        ))  # fmt: skip
    made = Within(source, polygons, edge)
    if extent_of == "full" or outside:
        return made
    return Subset(made, range(len(source.bands)), seen)


def _any_kept(polygons: Polygons, window: Window, edge: Edge) -> bool:
    (top, bottom), columns = window
    if edge.antialias:
        edge = Edge("touching")
    step = max(1, _STRIP // (columns[1] - columns[0]))
    return any(
        kept(polygons, ((row, min(row + step, bottom)), columns), Edge(edge.keep)).any()
        for row in range(top, bottom, step)
    )


def _missed(source: Source, polygons: Polygons, what: str) -> str:
    left, top, right, bottom = polygons.reach
    corners = [source.grid.to_map(x, y) for x in (left, right) for y in (top, bottom)]
    xs, ys = zip(*corners, strict=True)
    shape = ", ".join(f"{v:.10g}" for v in (min(xs), min(ys), max(xs), max(ys)))
    raster = ", ".join(f"{v:.10g}" for v in source.grid.bounds)
    return f"{what}: the shape covers ({shape}), the raster ({raster}), in the raster's system"


def clip_to(source: Source, other: Source, outside: bool, extent_of: str) -> Source:
    """Return a source where another one holds anything, at the nearest pixel, or where not.

    Raises GridMismatch, which gives both extents, where nothing would be kept.
    """
    if extent_of not in EXTENTS:
        raise LookError(f"extent {extent_of!r}: expected shape or full")
    mask = mask_on(chooser(other), source)
    if outside:
        return Masked(source, Inverted(mask))
    window = _chosen_window(mask)
    if window is None:
        raise GridMismatch(
            f"the footprint lies outside the raster: it covers {other.grid.bounds} in "
            f"{other.grid.crs_text}, the raster {source.grid.bounds} in {source.grid.crs_text}"
        )
    made = Masked(source, mask)
    return made if extent_of == "full" else Subset(made, range(len(source.bands)), window)


def _chosen_window(mask: Source) -> Window | None:
    """Return the smallest window that holds all that a mask chooses."""
    rows, columns = [], []
    step = max(1, _STRIP // mask.shape[1])
    for top in range(0, mask.shape[0], step):
        part = ((top, min(top + step, mask.shape[0])), (0, mask.shape[1]))
        chosen = mask.read([0], part).values[0].astype(bool)
        down, across = np.flatnonzero(chosen.any(1)), np.flatnonzero(chosen.any(0))
        if down.size:
            rows += [top + int(down[0]), top + int(down[-1]) + 1]
            columns += [int(across[0]), int(across[-1]) + 1]
    return ((min(rows), max(rows)), (min(columns), max(columns))) if rows else None
