"""The rasters of a mosaic, each on the pixels of one grid, with the same bands in one order."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from datetime import datetime
from typing import Any

import numpy as np

from spectrane.engine.derived import Derived
from spectrane.engine.described import Described
from spectrane.engine.full import FullSource
from spectrane.kernels.records import record
from spectrane.model.addresses import amend_command
from spectrane.model.band import Band
from spectrane.model.errors import BandError, GridMismatch, LookError, MetadataError
from spectrane.model.grid import Grid
from spectrane.model.physical import as_stored, physical, stored_numbers
from spectrane.model.pixels import Pixels
from spectrane.model.said import cloud_of, date_said, read_date
from spectrane.model.source import Source, called
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, intersection, shifted, whole
from spectrane.spatial.converted import conversion
from spectrane.spatial.coordinates import tell_planes, transformer
from spectrane.spatial.grids import extended, offset_on, union, window_on
from spectrane.spatial.regridded import Regridded, chosen_kernel
from spectrane.spatial.subset import Subset
from spectrane.spatial.turned import upright

ORDERS = ("argument", "date", "cloud")


@record(frozen=True)
class GridAligned:
    """A raster on a window of the mosaic's endless grid; the window may reach outside it."""

    source: Source
    window: Window
    name: str

    def read(self, bands: Sequence[int], window: Window, size: Any = None) -> Pixels:
        """Answer a window of the mosaic that lies within this raster's own."""
        inner = shifted(window, [-start for start, _ in self.window])
        return self.source.read(bands, inner, size, "area" if size else "nearest")


class Rescaled(Derived, FullSource):
    """Another source's stored numbers under another scale and offset: physical values stay."""

    def __init__(self, parent: Source, bands: Sequence[Band], dtype: np.dtype[Any]) -> None:
        super().__init__(parent, dtype=dtype, bands=tuple(bands), has_mask=True)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer in the new numbers."""
        return self._converted(self.parent.read(bands, window), bands)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._converted(pixels, bands)

    def _converted(self, pixels: Pixels, bands: Sequence[int]) -> Pixels:
        valid = pixels.validity
        out = np.empty(pixels.values.shape, self.dtype)
        for k, index in enumerate(bands):
            old, new = self.parent.bands[index], self.bands[index]
            stored = stored_numbers(physical(pixels.values[k], old, np.float64), new)
            stored = np.where(valid[k], stored, 0)
            out[k] = as_stored(stored, self.dtype)
        return Pixels(out, mask=valid, alpha=pixels.alpha)


def laid_out(
    sources: Sequence[Source], grid: Grid | None, resample: str | None, force: bool = False
) -> tuple[list[GridAligned], Grid, tuple[Band, ...], np.dtype[Any]]:
    """Bring sources onto one grid, with the first one's bands in its order and scale.

    Returns them, the grid (default: the union on the first one's), the bands and the common type.
    Raises GridMismatch where none meets the grid or one cannot be related to it, BandError where
    a band is missing, MetadataError where units do not convert. Warns of inputs that miss it.
    """
    if not sources:
        raise GridMismatch("mosaic: there are no rasters")
    sources = [upright(source) for source in sources]
    for source in sources:
        if not source.grid.placed:
            raise GridMismatch(
                f"{called(source)}: has no place on a map; give it one first (spectrane place)"
            )
    tell_planes([(called(source), source.grid) for source in sources])
    first = sources[0]
    dtype = np.result_type(*[source.dtype for source in sources])
    matched = [_with_bands(source, first, dtype) for source in sources]
    base = grid or union([source.grid for source in sources], first.grid)
    laid = []
    for source in matched:
        one = lay(source, base, resample, force)
        if intersection(one.window, whole(base.shape)) is None:
            warn_caller(
                f"{one.name}: does not meet the mosaic's grid {base.bounds} and is left out"
            )
            continue
        laid.append(one)
    if not laid:
        raise GridMismatch(
            f"mosaic: no raster meets the grid {base.bounds}; the first covers {first.grid.bounds}"
        )
    return laid, base, _joint_bands(matched, dtype), dtype


def lay(source: Source, base: Grid, resample: str | None, force: bool = False) -> GridAligned:
    """Return a source on the endless pixels of a grid; resampled only where they differ."""
    offset = offset_on(source.grid, base)
    if offset is not None:
        window = tuple((d, d + n) for d, n in zip(offset, source.shape, strict=True))
        return GridAligned(source, window, called(source))
    window = window_on(source.grid, base)
    covering = extended(base, *window)
    kernel = chosen_kernel(source, resample, covering, force)
    return GridAligned(Regridded(source, covering, kernel), window, called(source))


def _with_bands(source: Source, first: Source, dtype: np.dtype[Any]) -> Source:
    """Return a source with the bands of the first one: found by role or name, else in order."""
    if source is first:
        return source
    indices = [_matching(source, band, k, first) for k, band in enumerate(first.bands)]
    if indices != list(range(len(source.bands))):
        source = Subset(source, indices, whole(source.shape))
    wanted = []
    plain = True
    for own, band in zip(source.bands, first.bands, strict=True):
        factor, shift = _unit_step(source, own, band)
        moved = replace(own, scale=own.scale * factor, offset=own.offset * factor + shift)
        plain = plain and bool(
            np.isclose(moved.scale, band.scale, rtol=1e-12)
            and np.isclose(moved.offset, band.offset, rtol=1e-12)
        )
        wanted.append(moved)
    if plain:
        return source
    target = [replace(band, nodata=None) for band in first.bands]
    return Rescaled(Described(source, wanted), target, dtype)


def _matching(source: Source, band: Band, index: int, first: Source) -> int:
    for number, own in enumerate(source.bands):
        if band.role and own.role == band.role:
            return number
    for number, own in enumerate(source.bands):
        if own.name == band.name:
            return number
    known = any(own.role for own in source.bands) and any(b.role for b in first.bands)
    if not known and len(source.bands) == len(first.bands):
        return index
    raise BandError(
        f"{called(source)}: has no band like {band.name}"
        f"{f' ({band.role})' if band.role else ''}; its bands are "
        f"{', '.join(own.name for own in source.bands)}; select the common ones first"
    )


def _unit_step(source: Source, own: Band, band: Band) -> tuple[float, float]:
    if own.unit == band.unit or own.unit is None or band.unit is None:
        return 1.0, 0.0
    try:
        return conversion(own.unit, band.unit)
    except MetadataError as error:
        raise MetadataError(
            f"{called(source)}: band {own.name} is in {own.unit}, the first raster's in "
            f"{band.unit}, and the one does not become the other"
        ) from error


def _joint_bands(sources: Sequence[Source], dtype: np.dtype[Any]) -> tuple[Band, ...]:
    """Return the first one's bands, with the no-data that all share and the common type can hold.

    Where they share none the mosaic's mask alone tells: a valid number of one may be another's
    no-data, and no number changes.
    """
    apart = any(source.nodata_when == "all" for source in sources)
    bands = []
    for index, band in enumerate(sources[0].bands):
        said = {repr(one.bands[index].nodata) for one in sources}
        shared = len(said) == 1 and not apart and bool(band.rule.matching(dtype))
        bands.append(replace(band, nodata=band.nodata if shared else None))
    return tuple(bands)


def ordered(
    sources: Sequence[Source], order: str | None, keys: Mapping[str, Sequence[Any]] | None = None
) -> list[int]:
    """Return the order in which sources lie on one another, the lowest first.

    ``argument`` as given; ``date``: the latest on top; ``cloud``: the least cloudy on top;
    ``distance:X,Y``: the one whose middle is nearest to a point, in the first one's system, on top.
    ``keys`` may name ``date`` and ``cloud`` per source where the files do not say.
    """
    numbers = list(range(len(sources)))
    kind, _, rest = (order or "argument").partition(":")
    if kind == "argument":
        return numbers
    if kind == "date":
        dates = [_date(one, keys, k) for k, one in enumerate(sources)]
        return sorted(numbers, key=lambda k: dates[k])
    if kind == "cloud":
        clouds = [_cloud(one, keys, k) for k, one in enumerate(sources)]
        return sorted(numbers, key=lambda k: -clouds[k])
    if kind == "distance":
        far = _distances(sources, rest)
        return sorted(numbers, key=lambda k: -far[k])
    raise LookError(f"order {order!r}: expected {', '.join(ORDERS)} or distance:X,Y")


def _date(source: Source, keys: Mapping[str, Sequence[Any]] | None, k: int) -> datetime:
    said = keys["date"][k] if keys and "date" in keys else date_said(source.metadata)
    found = None if said is None else read_date(said)
    if found is None:
        name = called(source)
        raise MetadataError(f"{name}: says no date to order by (it says {said!r}); say it with: "
                            + amend_command(name, "--set date=2026-04-12"))  # fmt: skip
    return found


def _cloud(source: Source, keys: Mapping[str, Sequence[Any]] | None, k: int) -> float:
    said = keys["cloud"][k] if keys and "cloud" in keys else cloud_of(source.metadata)
    try:
        return float(said)  # type: ignore[arg-type]
    except (TypeError, ValueError) as error:
        name = called(source)
        raise MetadataError(f"{name}: says no cloud cover to order by; say it with: "
                            + amend_command(name, "--set cloud=12")) from error  # fmt: skip


def _distances(sources: Sequence[Source], point: str) -> list[float]:
    try:
        x, y = (float(part) for part in point.split(","))
    except ValueError as error:
        raise LookError(f"order distance:{point}: expected distance:X,Y") from error
    first = sources[0].grid
    far = []
    for source in sources:
        grid = source.grid
        east, north = grid.center(row=grid.shape[0] / 2 - 0.5, column=grid.shape[1] / 2 - 0.5)
        if grid.crs_text != first.crs_text:
            east, north = transformer(grid, first).transform(east, north)
        far.append(float(np.hypot(east - x, north - y)))
    return far
