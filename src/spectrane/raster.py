"""The public face of a raster: what is said of it, read from it, and made of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.fills import tell_fills
from spectrane.dataset import MapFace
from spectrane.engine.bars import ProgressLike, told_progress
from spectrane.engine.memory import loaded
from spectrane.kernels.quiet import quiet_methods
from spectrane.model.addresses import FilePath, file_name
from spectrane.model.asking import BandFields, GridLike, RegionLike, ShapeLike, Spacings, as_tuple
from spectrane.model.band import Band, BandName, find_bands
from spectrane.model.grid import CrsLike
from spectrane.model.html import Listed, in_row, picture_html
from spectrane.model.look import Look
from spectrane.model.marks import tell_picture
from spectrane.model.number_types import NumberType
from spectrane.model.resampling import Resampling
from spectrane.model.source import Source, flat_source_of
from spectrane.model.targets import Target, local_place
from spectrane.model.window import Window, whole
from spectrane.spatial import described as _described
from spectrane.spatial import extract as _extract
from spectrane.spatial.held import array_source
from spectrane.spatial.subset import Subset

if TYPE_CHECKING:
    from typing import Unpack

    import pandas

    from spectrane.analysis.description import Description
    from spectrane.analysis.histogram import Histogram
    from spectrane.display.export import Rescale
    from spectrane.formats.writing import WriteOptions
    from spectrane.spatial.clipping import ClipExtent, ShapeEdge
    from spectrane.spatial.masks import MaskAs

Bands = BandName | Iterable[BandName] | None
"""Bands by number (from 1), name or role; None: all of them."""


@quiet_methods
class Raster(MapFace):
    """Bands on a grid, not read yet: any window, at any resolution, when asked.

    Made by ``spectrane.open`` or ``spectrane.from_array``. Bands are counted from 1 and may be
    named by number, name or role. A raster is a context manager, and can be pickled.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.arange(12).reshape(3, 4))
    >>> raster.shape, raster.dtype.name
    ((1, 3, 4), 'int64')
    >>> raster.crop(rows=(1, 3), columns=(0, 2)).pixels().tolist()
    [[[4, 5], [8, 9]]]
    """

    @property
    def bands(self) -> tuple[Band, ...]:
        """What each band is called and means."""
        return Listed(self._source.bands)

    @property
    def shape(self) -> tuple[int, int, int]:
        """(bands, rows, columns)."""
        rows, columns = self._source.shape
        return len(self._source.bands), rows, columns

    @property
    def overviews(self) -> tuple[tuple[int, ...], ...]:
        """(rows, columns) of each reduced resolution the file holds."""
        return self._source.overviews

    def load(self) -> Raster:
        """Return the raster held in memory, for work that comes back to it.

        Raises ResourceError where it would not fit.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.ones((2, 3))).load().shape
        (1, 2, 3)
        """
        return type(self)(loaded(self._source))

    def pixels(
        self, bands: Bands = None, *, rows: Sequence[int] | None = None,
        columns: Sequence[int] | None = None, bounds: Sequence[float] | None = None,
        size: Sequence[int] | None = None, resample: Resampling = "nearest",
        physical: bool = False, force: bool = False,
    ) -> np.ma.MaskedArray[Any, Any]:  # fmt: skip
        """Return an array (bands, rows, columns), masked where invalid.

        ``rows`` and ``columns`` are half-open pairs from 0; ``bounds`` (x min, y min, x max, y max)
        in map units, snapped outward to whole pixels; ``size`` (rows, columns), reached by
        ``resample``, whose mixing kernels take names of classes and flags only with ``force``.
        Numbers are as stored, in the stored type; with ``physical`` stored * scale + offset in the
        band's unit, float32 or float64. Raises BandError, GridMismatch where the part lies
        outside, ResourceError where the answer would not fit in memory.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.arange(12).reshape(3, 4))
        >>> raster.pixels(rows=(0, 2), size=(1, 2), resample="area").tolist()
        [[[3, 5]]]
        """
        return _extract.pixels(
            self._source, bands, rows=as_tuple(rows), columns=as_tuple(columns),
            bounds=as_tuple(bounds), size=as_tuple(size), resample=resample, physical=physical,
            force=force,
        )  # fmt: skip

    def _masked_array(self) -> np.ma.MaskedArray[Any, Any]:
        return self.pixels()

    def to_item(self, href: FilePath | None = None) -> dict[str, Any]:
        """Return a STAC Item of the raster, as ``spectrane.to_item`` does.

        >>> import numpy as np, spectrane as sp
        >>> grid = sp.Grid.from_corner((4, 5), x=10, y=50, pixel_size=0.1, crs="EPSG:4326")
        >>> sp.from_array(np.ones((4, 5), "u1"), grid=grid).to_item("a_20260412.tif")["bbox"]
        [10.0, 49.6, 10.5, 50.0]
        """
        from spectrane.catalogs.writing import item_of_source

        return item_of_source(self._source, None if href is None else str(href))

    def describe(
        self, *, statistics: bool = False, zones: ShapeLike | None = None,
        progress: ProgressLike = None,
    ) -> Description:  # fmt: skip
        """Return a description that prints well; with ``statistics`` every pixel is read.

        ``zones`` are shapes, for statistics of each.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.ones((2, 3))).describe().to_dict()["columns"]
        3
        """
        from spectrane.analysis import description as _description

        measured: list[dict[str, Any]] = []
        if statistics or zones is not None:
            from spectrane.measured import statistics_rows

            every = range(len(self.bands))
            measured = statistics_rows(self._source, every, zones=zones, progress=progress)
        return _description.describe(self._source, measured)

    def select(self, bands: Bands) -> Raster:
        """Return some bands, in the order named. Raises BandError for one there is not.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.zeros((2, 3, 3)), bands=["red", "nir"])
        >>> [band.name for band in raster.select(["nir", 1]).bands]
        ['nir', 'red']
        """
        indices = find_bands(self.bands, bands)
        return Raster(Subset(self._source, indices, whole(self._source.shape)))

    def crop(
        self, *, bounds: Sequence[float] | None = None, rows: Sequence[int] | None = None,
        columns: Sequence[int] | None = None,
    ) -> Raster:  # fmt: skip
        """Return a window: half-open rows and columns from 0, or map bounds snapped outward.

        Raises GridMismatch where it lies outside.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.zeros((9, 9))).crop(rows=(2, 5), columns=(0, 4)).shape
        (1, 3, 4)
        """
        source, window = _extract.asked(self._source, rows=as_tuple(rows), bounds=as_tuple(bounds),
                                        columns=as_tuple(columns))  # fmt: skip
        return Raster(Subset(source, range(len(self.bands)), window))

    def with_bands(self, bands: BandFields) -> Raster:
        """Return the raster with bands described anew: number, name or role -> new fields.

        Raises BandError for a band there is not, MetadataError for a field there is not.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.zeros((2, 2))).with_bands({1: {"role": "nir", "scale": 0.1}})
        >>> raster.bands[0].role, raster.bands[0].scale
        ('nir', 0.1)
        """
        return Raster(_described.with_bands(self._source, bands))

    def compute(self, given: Mapping[str, str], *, unit: str | None = None) -> Raster:
        """Return computed bands alone: name -> expression over bands, in physical values.

        Bands are named by name, role, or ``band(1)``; named indices (``ndvi``, ``nbr``, …) are
        expressions too. An answer is float32 or float64, invalid where it has no number. Raises
        LookError for what is no expression, BandError for a band there is not.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.array([[[1.0]], [[3.0]]]), bands=["red", "nir"])
        >>> raster.compute({"greenness": "(nir - red) / (nir + red)"}).pixels().tolist()
        [[[0.5]]]
        """
        from spectrane.analysis.expressions import Computed

        return Raster(Computed(self._source, given, unit))

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

    def regrid(
        self, grid: GridLike | None = None, *, crs: CrsLike | None = None,
        pixel_size: Spacings | None = None, resample: Resampling | None = None,
        tolerance: float = 0.05, force: bool = False, within: float | None = None,
    ) -> Raster:  # fmt: skip
        """Return the raster on another grid, or on one in ``crs`` with ``pixel_size`` (its units).

        ``resample`` None is ``cubic``, and ``nearest`` or ``majority`` for names of classes, which
        other kernels mix only with ``force``. ``tolerance`` bounds positions' errors in pixels of
        this raster; 0 computes each exactly. Of a swath, whose pixels have longitudes and latitudes
        of their own, the pixel nearest ``within`` so many metres is taken (None: 1.5 of its
        pixels). A grid whose pixels coincide resamples nothing.

        Raises GridMismatch where the two cannot be related or do not meet, LookError for a kernel
        there is not. Warns where a better datum transformation is not installed.

        >>> import numpy as np, spectrane as sp
        >>> grid = sp.Grid.from_corner((4, 4), x=0, y=40, pixel_size=10, crs="EPSG:32727")
        >>> raster = sp.from_array(np.arange(16.0).reshape(4, 4), grid=grid)
        >>> coarse = raster.regrid(crs="EPSG:32727", pixel_size=20, resample="area")
        >>> coarse.pixels().round(3).tolist()
        [[[2.5, 4.5], [10.5, 12.5]]]
        """
        from spectrane.spatial.regridded import regrid

        return Raster(regrid(self._source, grid, crs=crs, pixel_size=pixel_size,
                             resample=resample, tolerance=tolerance, force=force,
                             within=within))  # fmt: skip

    def clip(
        self, shape: ShapeLike | Raster, *, crs: CrsLike | None = None,
        keep: ShapeEdge = "centers", outside: bool = False, extent: ClipExtent = "shape",
        antialias: bool = False, soft: float = 0.0,
    ) -> Raster:  # fmt: skip
        """Return what lies in a shape, or in another raster's footprint; the rest is invalid.

        ``shape`` is GeoJSON (a mapping or a path), the path of a GeoPackage, a geometry, bounds,
        what ``read_shapes`` returns, in ``crs`` or what it says itself; or a raster: kept is where
        that holds anything, at the nearest pixel. A pixel is kept where its centre lies inside
        (``centers``), or where its area does in part (``touching``); with ``outside``, the others.
        ``extent`` ``shape`` leaves the smallest rectangle that covers the shape, ``full`` all.
        ``antialias`` and ``soft`` (pixels) make an alpha for display.

        Raises GridMismatch, which gives both extents, where nothing would be kept.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.arange(9).reshape(3, 3))
        >>> raster.clip((0, 0, 2, 1)).pixels().tolist()
        [[[0, 1]]]
        """
        from spectrane.spatial import clipping as _clipping

        if isinstance(shape, Raster):
            return Raster(_clipping.clip_to(self._source, shape._source, outside, extent))
        return Raster(_clipping.clip(
            self._source, shape, crs=crs, keep=keep, outside=outside, extent_of=extent,
            antialias=antialias, soft=soft,
        ))  # fmt: skip

    def masked(self, mask: Raster | NDArray[Any], *, keep: MaskAs = "nodata") -> Raster:
        """Return the raster where a mask (or another raster's footprint) is; the rest is no-data.

        ``mask`` may be an array (rows, columns) of true and false on this raster's grid.
        With ``keep="alpha"`` the rest is transparent instead, and its numbers stay.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.array([[1, 2, 3]]))
        >>> raster.masked(sp.mask(raster, range=(2, None))).pixels().tolist()
        [[[None, 2, 3]]]
        """
        from spectrane.spatial.masks import Masked, chooser

        chosen = array_source(mask, grid=self.grid) if isinstance(mask, np.ndarray) else mask
        return Raster(Masked(self._source, chooser(flat_source_of(chosen)), keep))

    def relief(
        self, band: BandName = 1, *, azimuth: float = 315.0, altitude: float = 45.0,
        exaggeration: float = 1.0, suns: Sequence[Sequence[float]] | None = None,
    ) -> Raster:  # fmt: skip
        """Return heights as relief shading of 0 to 1: how a surface is lit.

        ``azimuth`` (clockwise from north) and ``altitude`` are degrees; ``suns`` are (azimuth,
        altitude) or (azimuth, altitude, weight), instead of one. Slopes are those of Horn (1981);
        heights are multiplied by ``exaggeration``.

        >>> import numpy as np, spectrane as sp
        >>> flat = sp.from_array(np.zeros((5, 5)))
        >>> round(float(flat.relief(altitude=30).pixels()[0, 2, 2]), 3)
        0.5
        """
        from spectrane.spatial.relief import Relief, Sun

        lit = [Sun(*angles) for angles in suns] if suns else [Sun(azimuth, altitude)]
        return Raster(Relief(self._source, find_bands(self.bands, band)[0], lit, exaggeration))

    def upright(self) -> Raster:
        """Return the raster turned as its file's Orientation says it should be seen.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.zeros((2, 3))).upright().shape
        (1, 2, 3)
        """
        from spectrane.spatial.turned import upright

        return Raster(upright(self._source))

    def statistics(
        self, bands: Bands = None, *, region: RegionLike | None = None,
        zones: ShapeLike | None = None, progress: ProgressLike = None,
    ) -> pandas.DataFrame:  # fmt: skip
        """Return exact statistics of valid pixels, a row per band, in physical values.

        Of a raster of classes, a row per class that occurs: pixels, share, hectares, km2 (on
        longitude and latitude true on the ellipsoid, else those of the map). ``region`` is map
        bounds, a View, a polygon (GeoJSON), or None: everything; ``zones`` are shapes, each with
        rows of its own. σ divides by N. Raises GridMismatch where they miss the raster.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.array([[1.0, 2.0, 3.0]])).statistics().loc["band 1", "mean"].item()
        2.0
        """
        import pandas

        from spectrane.measured import KEYS, statistics_rows

        tell_picture(self._source)
        indices = find_bands(self.bands, bands)
        rows = statistics_rows(self._source, indices, region=region, zones=zones, progress=progress)
        if not self._source.categories and zones is None:
            ends = [(row["min"], row["max"]) for row in rows] if region is None else None
            tell_fills(self._source, indices, ends)
        table = pandas.DataFrame(rows)
        return table.set_index([key for key in KEYS if key in table])

    def histogram(
        self, bands: Bands = None, *, bins: int | Literal["auto"] = "auto",
        range: Sequence[float] | None = None, region: RegionLike | None = None,
    ) -> Histogram:  # fmt: skip
        """Return counts and edges per band, in physical values.

        ``bins`` ``auto`` is one bin per stored number of 8 and 16 bits, else 4096 even ones between
        least and greatest value; ``range`` (low, high) in physical values. ``region`` is as for
        ``statistics``.

        >>> import numpy as np, spectrane as sp
        >>> counted = sp.from_array(np.array([[0, 0, 5]], np.uint8)).histogram(bins=5, range=(0, 5))
        >>> counted.counts[0].tolist()
        [2, 0, 0, 0, 1]
        """
        from spectrane.analysis import histogram as _histogram

        tell_picture(self._source)
        indices = find_bands(self.bands, bands)
        source, window = self._region(region)
        counted = _histogram.band_histogram(
            source, indices, window, bins=bins, value_range=as_tuple(range)
        )
        everything = region is None and range is None
        tell_fills(self._source, indices, counted.ends if everything else None)
        return counted

    def _region(self, region: RegionLike | None) -> tuple[Source, Window | None]:
        from spectrane.spatial.regions import region_of

        return (self._source, None) if region is None else region_of(self._source, region)

    def save(
        self, path: Target, *, dtype: NumberType | np.dtype[Any] | None = None,
        rescale: Rescale | None = None, look: Look | None = None, overwrite: bool = False,
        progress: ProgressLike = None, ending: str | None = None,
        storage_options: Mapping[str, Any] | None = None, **options: Unpack[WriteOptions],
    ) -> None:  # fmt: skip
        """Write the data to a file of the format its ending names.

        ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file, whose
        format ``ending`` (``".tif"``) says.
        ``dtype`` is another type. ``rescale`` says what becomes of the numbers: ``none`` keeps them
        (rounded half up, clamped, told), ``full`` stretches the whole range of the type (of the
        data, for floats), ``limits`` the display limits of ``look`` (default: the file's own, else
        percentile:1,99). ``options`` are the format's own: for TIFF ``compress``, ``overviews``,
        ``tile`` and ``planes``, for JPEG ``quality``, for raw ``interleave`` and ``order``.

        Raises FormatError for what the format cannot hold, ExistingFile, AccessError; a file is
        written whole or not at all, and never over the one it is read from.

        >>> import numpy as np, spectrane as sp, tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = os.path.join(folder, "ones.tif")
        ...     sp.from_array(np.ones((2, 3), np.uint8)).save(path, compress="none")
        ...     sp.open(path).shape
        (1, 2, 3)
        """
        from spectrane.display.export import write_data

        with local_place(path, ending=ending, overwrite=overwrite,
                         storage_options=storage_options) as place:  # fmt: skip
            write_data(
                self._source, place, dtype=dtype, rescale=rescale, look=look, overwrite=overwrite,
                progress=told_progress(progress), **options,
            )  # fmt: skip

    def __repr__(self) -> str:
        bands, rows, columns = self.shape
        name = file_name(self.source) or self.format
        return f"<Raster {name}: {bands} bands, {rows} rows x {columns} columns, {self.dtype}>"

    def _repr_html_(self) -> str:
        from spectrane.display.thumbnails import thumbnail

        small = thumbnail(self._source)
        picture = "" if small is None else picture_html(small, f"{self.title}, small")
        return in_row(picture, self.describe()._repr_html_())
