"""The public face of a raster: every method forwards to a free function below."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from spectrane.analysis import statistics as _statistics
from spectrane.analysis.fills import tell_fills
from spectrane.engine.described import Described
from spectrane.engine.memory import ArraySource, loaded, parts_first
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.registry import members_of, open_source
from spectrane.model.band import Band, BandName, bands_of, find_bands
from spectrane.model.errors import FormatError, LookError, MetadataError
from spectrane.model.faced import Faced
from spectrane.model.grid import Bounds, CrsLike, Grid
from spectrane.model.look import Look, look_of
from spectrane.model.marks import tell_picture
from spectrane.model.nodata import per_band
from spectrane.model.source import Source, flat_source_of
from spectrane.model.view import View
from spectrane.model.window import Window, whole
from spectrane.spatial import described as _described
from spectrane.spatial import extract as _extract
from spectrane.spatial.subset import Subset

if TYPE_CHECKING:
    import pandas

    from spectrane.analysis.description import Description
    from spectrane.analysis.histogram import Histogram
    from spectrane.display.picture import Picture

Bands = BandName | Iterable[BandName] | None


class Raster(Faced):
    """Bands on a grid, not read yet: any window, at any resolution, when asked.

    Made by ``spectrane.open`` or ``spectrane.from_array``. Bands are counted from 1 and may be
    named by number, name or role. A raster is a context manager, and can be pickled.

    >>> import numpy as np
    >>> raster = from_array(np.arange(12).reshape(3, 4))
    >>> raster.shape, raster.dtype.name
    ((1, 3, 4), 'int64')
    >>> raster.crop(rows=(1, 3), columns=(0, 2)).pixels().tolist()
    [[[4, 5], [8, 9]]]
    """

    @property
    def bands(self) -> tuple[Band, ...]:
        """What each band is called and means."""
        return self._source.bands

    @property
    def shape(self) -> tuple[int, ...]:
        """(bands, rows, columns)."""
        return (len(self._source.bands), *self._source.shape)

    @property
    def overviews(self) -> tuple[tuple[int, ...], ...]:
        """(rows, columns) of each reduced resolution the file holds."""
        return self._source.overviews

    def load(self) -> Raster:
        """Return the raster held in memory, for work that comes back to it."""
        return Raster(loaded(self._source))

    def pixels(
        self, bands: Bands = None, *, rows: tuple[int, int] | None = None,
        columns: tuple[int, int] | None = None, bounds: Bounds | None = None,
        size: tuple[int, int] | None = None, resample: str = "nearest", physical: bool = False,
        force: bool = False,
    ) -> np.ma.MaskedArray[Any, Any]:  # fmt: skip
        """Return (bands, rows, columns), masked where invalid: see ``spatial.extract.pixels``."""
        return _extract.pixels(
            self._source, bands, rows=rows, columns=columns, bounds=bounds, size=size,
            resample=resample, physical=physical, force=force,
        )  # fmt: skip

    def _masked_array(self) -> np.ma.MaskedArray[Any, Any]:
        return self.pixels()

    def describe(self, *, statistics: bool = False) -> Description:
        """Return a description that prints well; with ``statistics`` every pixel is read."""
        from spectrane.analysis import description as _description

        found = self._statistics(None, None) if statistics else ()
        return _description.describe(self._source, found)

    def select(self, bands: Bands) -> Raster:
        """Return some bands, in the order named."""
        indices = find_bands(self.bands, bands)
        return Raster(Subset(self._source, indices, whole(self._source.shape)))

    def crop(
        self, *, bounds: Bounds | None = None, rows: tuple[int, int] | None = None,
        columns: tuple[int, int] | None = None,
    ) -> Raster:  # fmt: skip
        """Return a window: half-open rows and columns from 0, or map bounds snapped outward."""
        source, window = _extract.asked(self._source, rows=rows, columns=columns, bounds=bounds)
        return Raster(Subset(source, range(len(self.bands)), window))

    def with_nodata(self, nodata: Any, *, when: str | None = None) -> Raster:
        """Return the raster under another no-data rule: see ``spatial.described.with_nodata``."""
        return Raster(_described.with_nodata(self._source, nodata, when))

    def with_bands(self, bands: Mapping[Any, Mapping[str, Any]]) -> Raster:
        """Return the raster with bands described anew, e.g. ``{1: {"role": "nir"}}``."""
        return Raster(_described.with_bands(self._source, bands))

    def compute(self, given: Mapping[str, str], *, unit: str | None = None) -> Raster:
        """Return computed bands alone, e.g. ``{"greenness": "(nir - red) / (nir + red)"}``.

        See ``analysis.expressions``; named indices (``ndvi``, ``nbr``, …) are expressions too.
        """
        from spectrane.analysis.expressions import Computed

        return Raster(Computed(self._source, given, unit))

    def propose_look(self, band: BandName = 1) -> Look:
        """Return a look that fits what a band means: see ``display.proposals.proposed``."""
        from spectrane.display.proposals import proposed

        return proposed(self._source, find_bands(self.bands, band)[0])[0]

    def physical(self) -> Raster:
        """Return the physical values as stored numbers: float32 or float64, NaN where invalid.

        Units, roles, wavelengths and the look stay.

        >>> import spectrane as sp
        >>> band = sp.Band("red", role="red", scale=0.5, nodata=0)
        >>> raster = sp.from_array([[0, 3]], bands=[band]).physical()
        >>> raster.pixels().tolist(), raster.bands[0].role, raster.bands[0].scale
        ([[[None, 1.5]]], 'red', 1.0)
        """
        from spectrane.spatial.converted import Physical

        return Raster(Physical(self._source))

    def convert(self, unit: str) -> Raster:
        """Return the raster in another unit (``celsius``, ``mm``): see ``converted.in_unit``."""
        from spectrane.spatial.converted import in_unit

        return Raster(in_unit(self._source, unit))

    def regrid(
        self, grid: Any = None, *, crs: CrsLike | None = None, pixel_size: Any = None,
        resample: str | None = None, tolerance: float = 0.05, force: bool = False,
        within: float | None = None,
    ) -> Raster:  # fmt: skip
        """Return the raster on another grid: see ``spatial.regridded.regrid``."""
        from spectrane.spatial.regridded import regrid

        return Raster(regrid(self._source, grid, crs=crs, pixel_size=pixel_size,
                             resample=resample, tolerance=tolerance, force=force,
                             within=within))  # fmt: skip

    def clip(
        self, shape: Any, *, crs: CrsLike | None = None, keep: str = "centers",
        outside: bool = False, extent: str = "shape", antialias: bool = False, soft: float = 0.0,
    ) -> Raster:  # fmt: skip
        """Return what lies in a shape, or in another raster's footprint: see ``spatial.clipping``.

        ``shape`` may be a raster: kept is where that holds anything, at the nearest pixel.
        """
        from spectrane.spatial import clipping as _clipping

        if isinstance(shape, Raster):
            return Raster(_clipping.clip_to(self._source, shape._source, outside, extent))
        return Raster(_clipping.clip(
            self._source, shape, crs=crs, keep=keep, outside=outside, extent_of=extent,
            antialias=antialias, soft=soft,
        ))  # fmt: skip

    def masked(self, mask: Raster | NDArray[Any], *, keep: str = "nodata") -> Raster:
        """Return the raster where a mask (or another raster's footprint) is; the rest is no-data.

        ``mask`` may be an array (rows, columns) of true and false on this raster's grid.
        With ``keep="alpha"`` the rest is transparent instead, and its numbers stay.
        """
        from spectrane.spatial.masks import Masked, chooser

        if isinstance(mask, np.ndarray):
            mask = from_array(mask, grid=self.grid)
        return Raster(Masked(self._source, chooser(flat_source_of(mask)), keep))

    def relief(
        self, band: BandName = 1, *, azimuth: float = 315.0, altitude: float = 45.0,
        exaggeration: float = 1.0, suns: Any = None,
    ) -> Raster:  # fmt: skip
        """Return heights as relief shading of 0 to 1: see ``spatial.relief``.

        ``suns`` are (azimuth, altitude) or (azimuth, altitude, weight), instead of one.
        """
        from spectrane.spatial.relief import Relief, Sun

        lit = [Sun(*one) for one in suns] if suns else [Sun(azimuth, altitude)]
        return Raster(Relief(self._source, find_bands(self.bands, band)[0], lit, exaggeration))

    def upright(self) -> Raster:
        """Return the raster turned as its file's Orientation says it should be seen."""
        from spectrane.spatial.turned import upright

        return Raster(upright(self._source))

    def with_look(self, look: Look) -> Raster:
        """Return the raster with other display defaults."""
        return Raster(Described(self._source, look=look_of(look)))

    def statistics(
        self, bands: Bands = None, *, region: Any = None,
        progress: Progress | None = None,
    ) -> pandas.DataFrame:  # fmt: skip
        """Return exact statistics of valid pixels, a row per band, in physical values.

        ``region`` is map bounds, a View, a polygon (GeoJSON), or None: everything. σ divides by N.
        """
        import pandas

        tell_picture(self._source)
        found = self._statistics(bands, region, progress)
        ends = [(one.min, one.max) for one in found] if region is None else None
        tell_fills(self._source, find_bands(self.bands, bands), ends)
        return pandas.DataFrame(found).set_index("band")

    def _statistics(
        self, bands: Bands, region: Any,
        progress: Progress | None = None,
    ) -> list[_statistics.BandStatistics]:  # fmt: skip
        indices = find_bands(self.bands, bands)
        source, window = self._region(region)
        return _statistics.band_statistics(source, indices, window, progress or no_progress)

    def histogram(
        self, bands: Bands = None, *, bins: int | str = "auto",
        range: tuple[float, float] | None = None, region: Any = None,
    ) -> Histogram:  # fmt: skip
        """Return counts and edges per band: see ``analysis.histogram.band_histogram``."""
        from spectrane.analysis import histogram as _histogram

        tell_picture(self._source)
        indices = find_bands(self.bands, bands)
        source, window = self._region(region)
        found = _histogram.band_histogram(source, indices, window, bins=bins, value_range=range)
        everything = region is None and range is None
        tell_fills(self._source, indices, found.ends if everything else None)
        return found

    def _region(self, region: Any) -> tuple[Source, Window | None]:
        from spectrane.spatial.regions import region_of

        return (self._source, None) if region is None else region_of(self._source, region)

    def save(
        self, path: str | os.PathLike[str], *, dtype: str | np.dtype[Any] | None = None,
        rescale: str | None = None, look: Look | None = None, overwrite: bool = False,
        progress: Progress | None = None, **options: Any,
    ) -> None:  # fmt: skip
        """Write the data to a file of the format its ending names: see ``display.export.save``.

        ``options`` are the format's own: for TIFF ``compress``, ``overviews``, ``tile`` and
        ``planes``, for JPEG ``quality``, for raw ``interleave`` and ``order``.
        """
        from spectrane.display.export import save

        save(
            self._source, path, dtype=dtype, rescale=rescale, look=look, overwrite=overwrite,
            progress=progress or no_progress, **options,
        )  # fmt: skip

    def __repr__(self) -> str:
        bands, rows, columns = self.shape
        name = os.path.basename(self.source) or self.format
        return f"<Raster {name}: {bands} bands, {rows} rows x {columns} columns, {self.dtype}>"

    def _repr_html_(self) -> str:
        return self.describe()._repr_html_()


def open(
    path: str | os.PathLike[str], *, member: int | str | None = None, damaged: str = "error"
) -> Raster:
    """Open a raster of two dimensions; ``spectrane.open`` also opens volumes.

    ``damaged`` data are an ``error``, or with ``keep`` invalid.

    Raises FormatError for a volume.
    """
    source = open_source(path, member=member, damaged=damaged)
    if len(source.shape) != 2:
        source.close()
        raise FormatError(f"{os.fspath(path)}: is a volume; cut it with spectrane slices")
    return Raster(source)


def members(path: str | os.PathLike[str]) -> pandas.DataFrame:
    """Return the rasters inside a file, a row each; ``open(member=)`` takes number or name."""
    import pandas

    columns = ["member", "name", "rows", "columns", "bands", "type"]
    found = [(m.number, m.name, m.rows, m.columns, m.bands, m.dtype) for m in members_of(path)]
    return pandas.DataFrame(found, columns=columns)


def survey(folder: str | os.PathLike[str], *, progress: Progress | None = None) -> pandas.DataFrame:
    """Return every raster below a folder, found by content: see ``surveying.survey``."""
    from dataclasses import asdict

    import pandas

    from spectrane.surveying import Found
    from spectrane.surveying import survey as look_below

    found = [asdict(one) for one in look_below(folder, progress or no_progress)]
    return pandas.DataFrame(found, columns=list(Found.__dataclass_fields__))


def amend(path: str | os.PathLike[str], *, undo: bool = False, **corrections: Any) -> None:
    """Keep corrections with a file, once and for all: see ``formats.amending.amend``.

    With ``undo`` the last correction is taken back.
    """
    from spectrane.formats import amending

    if undo and corrections:
        raise MetadataError(
            "amend: undo takes the last correction back, and goes alone; leave out "
            f"{', '.join(corrections)}, or amend again afterwards"
        )
    if undo:
        amending.undo(path)
    else:
        amending.amend(path, **corrections)


def from_array(
    array: ArrayLike, *, grid: Grid | None = None, bands: Iterable[Band | str] | None = None,
    nodata: Any = None, band_axis: int | None = None,
) -> Raster:  # fmt: skip
    """Return a raster of an array (rows, columns) or (bands, rows, columns), not copied.

    A masked array's mask is kept. ``bands`` are Bands or names. ``nodata`` is a number, a list with
    (low, high) ranges, or a mapping by band number. ``band_axis`` says which of three axes holds
    the bands (the first): -1 for (rows, columns, bands). Raises MetadataError, GridMismatch,
    BandError where they do not fit.

    >>> import numpy as np
    >>> from_array(np.array([[0, 7]], np.uint8), nodata=0).pixels().tolist()
    [[[None, 7]]]
    """
    values = np.asanyarray(array)
    mask = None
    if isinstance(values, np.ma.MaskedArray):
        mask = ~np.ma.getmaskarray(values)
        values = values.data
    if values.ndim == 3:
        values = parts_first(values, band_axis, "bands", "band_axis")
        mask = None if mask is None else np.moveaxis(mask, band_axis or 0, 0)
    if values.ndim == 2:
        values, mask = values[np.newaxis], None if mask is None else mask[np.newaxis]
    source: Source = ArraySource(
        values, grid=grid, bands=None if bands is None else bands_of(bands), mask=mask
    )
    if nodata is not None:
        found = per_band(nodata, len(source.bands))
        source = _described.with_nodata(source, {k + 1: v for k, v in found.items()})
    return Raster(source)


def render(
    raster: Any, look: Look | None = None, *, view: View | None = None,
    size: tuple[int, int] | None = None,
) -> Picture:  # fmt: skip
    """Draw a raster as a look says, or layers on one another: see ``display.render.render``.

    ``raster`` may be a list of ``Layer`` and ``Outline``, the lowest first, each with its own look.

    >>> import numpy as np
    >>> picture = render(from_array(np.array([[0, 128, 255]], np.uint8)))
    >>> picture.rgba[0, :, 0].tolist()
    [0, 128, 255]
    """
    from spectrane.display import render as _render

    if isinstance(raster, list | tuple):
        from spectrane.display.layers import overlay

        if look is not None:
            raise LookError("render: layers have looks of their own: Layer(raster, look)")
        return overlay(list(raster), view=view, size=size)
    return _render.render(flat_source_of(raster), look, view=view, size=size)


def probe(
    layers: Any, *, x: float | None = None, y: float | None = None, row: int | None = None,
    column: int | None = None, points: Any = None, crs: CrsLike | None = None,
) -> pandas.DataFrame:  # fmt: skip
    """Return what stands under a point in every band of every layer: see ``display.probing``.

    ``layers`` is a raster, a (raster, look) pair or a ``Layer``, or a list of them. One point by
    ``x`` and ``y`` or ``row`` and ``column``, or many by ``points`` (GeoJSON, CSV, mappings).

    >>> import numpy as np
    >>> probe(from_array(np.array([[0, 51]], np.uint8)), row=0, column=1)["level"].tolist()
    [51]
    """
    import pandas

    from spectrane.display.probing import probed

    listed = list(layers) if isinstance(layers, list) else [layers]
    return pandas.DataFrame(
        probed(listed, x=x, y=y, row=row, column=column, points=points, crs=crs)
    )


def profile(raster: Raster, points: Any, *, crs: CrsLike | None = None) -> pandas.DataFrame:
    """Return a value by band for each named point, or mean and σ for each polygon.

    ``points`` is as for ``probe``, or GeoJSON with polygons. Columns: ``zone band wavelength unit
    count invalid mean std min max p5 p50 p95``; a point counts 1.
    """
    import pandas

    from spectrane.analysis.spectra import zone_table
    from spectrane.spatial.regions import zones_of

    tell_picture(raster._source)
    zones = zones_of(raster._source, points, crs)
    return pandas.DataFrame(zone_table(raster._source, range(len(raster.bands)), zones))
