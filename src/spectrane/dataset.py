"""What the faces of rasters and volumes say and do alike, each forwarding to its source."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, Any, Self

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.described import Described
from spectrane.engine.memory import shared_array
from spectrane.kernels.quiet import quiet_methods
from spectrane.model.arrays import as_asked, plain_array
from spectrane.model.asking import NoDataLike
from spectrane.model.band import BandName, find_bands
from spectrane.model.display_window import DisplayWindow
from spectrane.model.grid import Grid
from spectrane.model.look import Look, NoDataWhen, look_of
from spectrane.model.source import Source, called
from spectrane.spatial import described as _described

if TYPE_CHECKING:
    from dask.array import Array as DaskArray
    from xarray import DataArray

    from spectrane.exchange.dask_arrays import Chunks


@quiet_methods
class DatasetFace:
    """A face of a source: what it is, where it is from, and letting go of it."""

    def __init__(self, source: Source) -> None:
        self._source = source

    @property
    def grid(self) -> Grid:
        """Where the pixels or voxels lie."""
        return self._source.grid

    @property
    def dtype(self) -> np.dtype[Any]:
        """The type of the stored numbers."""
        return self._source.stored_type

    @property
    def format(self) -> str:
        """The file's format, or ``memory``."""
        return self._source.format

    @property
    def source(self) -> str:
        """The file's path or address."""
        return self._source.name

    @property
    def title(self) -> str:
        """What it is called in pictures, tables and files that are handed on: its file's short
        name; of DICOM, whose names may say who somebody is, what kind of picture it is.
        """
        return called(self._source)

    @property
    def metadata(self) -> dict[str, Any]:
        """Everything the file says, under readable names."""
        return dict(self._source.metadata)

    @property
    def look(self) -> Look | None:
        """The display defaults kept with the file, or None."""
        return self._source.look

    @property
    def windows(self) -> tuple[DisplayWindow, ...]:
        """The windows kept with the file, its default first; ``window:2`` is the second."""
        return self._source.windows

    @property
    def identity(self) -> tuple[str, ...]:
        """Which elements of ``metadata`` say who somebody is; nothing prints them unasked."""
        return self._source.identity

    def with_nodata(self, nodata: NoDataLike, *, when: NoDataWhen | None = None) -> Self:
        """Return the same under another rule of no-data; nothing is read.

        ``nodata`` is a stored number, a list in which a pair is a closed range, None for none at
        all, or a mapping from numbers (from 1), names or roles of bands to either. ``when`` says
        whether a pixel means nothing where ``any`` band does, or ``all`` do. Raises MetadataError
        for what is no such rule, BandError for a band there is not.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.array([[0, 7, 251]], np.uint8))
        >>> raster.with_nodata([0, (250, 255)]).pixels().tolist()
        [[[None, 7, None]]]
        """
        return type(self)(_described.with_nodata(self._source, nodata, when))

    def with_look(self, look: Look) -> Self:
        """Return the same with other display defaults. Raises LookError for what is no Look.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.zeros((2, 2))).with_look(sp.Look(curve="sqrt"))
        >>> str(raster.look.curve)
        'sqrt'
        """
        return type(self)(Described(self._source, look=look_of(look)))

    def convert(self, unit: str) -> Self:
        """Return the same with physical values in another unit; no number is touched.

        Units are those of the standards (K, degC, m, mm, HU, W m-2 sr-1 um-1, 1) or English names
        (``celsius``). Scale and offset are found anew. ``SUV`` is by body weight, from a PET file's
        own dose, weight and times (PS3.3 C.8.9). Raises MetadataError where a band has no
        unit, or one that does not convert to this by a linear rule; for SUV it names what the file
        does not say.

        >>> import numpy as np, spectrane as sp
        >>> warm = sp.from_array(np.array([[300.0]]), bands=[sp.Band("air", unit="K")])
        >>> round(warm.convert("celsius").pixels(physical=True).item(), 2)
        26.85
        """
        from spectrane.spatial.converted import in_unit

        return type(self)(in_unit(self._source, unit))

    def to_numpy(self, *, fill: float | None = None) -> NDArray[Any]:
        """Return all numbers as a plain array; what is invalid is ``fill`` (None: NaN).

        Of a raster (bands, rows, columns) as stored, of a volume (i, j, k) of the first frame in
        physical values: what ``pixels()`` and ``voxels()`` give. Raises ArgumentError for invalid
        integers without a fill.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.array([[0, 7]], np.uint8), nodata=0).to_numpy(fill=255).tolist()
        [[[255, 7]]]
        """
        return plain_array(self._masked_array(), fill, type(self).__name__.lower())

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[Any]:
        """Return all numbers, as ``to_numpy`` does: what NumPy's functions take."""
        return as_asked(self.to_numpy(), dtype, copy, type(self).__name__.lower())

    def to_xarray(self, *, physical: bool = False, chunks: Chunks | None = None) -> DataArray:
        """Return an ``xarray.DataArray``: (band, y, x) of a raster, (frame, i, j, k) of a volume.

        Coordinates are the centres of pixels and what is known of bands, attributes those of the CF
        conventions; place and system stand in the coordinate ``crs`` (of a volume ``patient``).
        Invalid floats are NaN, invalid integers their no-data value, or without one told by the
        coordinate ``validity``. With ``chunks`` (``blocks``: along the file's own) nothing is read
        before it is asked for. ``from_xarray`` takes it back.

        >>> import numpy as np, spectrane as sp
        >>> array = sp.from_array(np.array([[[1.0]], [[3.0]]]), bands=["red", "nir"]).to_xarray()
        >>> float(array.sel(band="nir").mean())
        3.0
        """
        from spectrane.exchange.to_xarray import to_xarray

        made: DataArray = to_xarray(self._source, physical=physical, chunks=chunks)
        return made

    def to_dask(self, *, chunks: Chunks = "blocks", fill: float | None = None) -> DaskArray:
        """Return a Dask array of the stored numbers, bands or frames first; nothing is read yet.

        ``blocks`` are whole blocks of the file, each read by one task. Invalid floats are NaN,
        invalid integers their no-data value, or ``fill``. Raises ArgumentError for invalid
        integers that no value says to be, without a ``fill``.

        >>> import numpy as np, spectrane as sp
        >>> int(sp.from_array(np.arange(6).reshape(2, 3)).to_dask().sum().compute())
        15
        """
        from spectrane.exchange.dask_arrays import to_dask

        return to_dask(self._source, chunks, fill=fill)

    def __dlpack__(self, **asked: Any) -> Any:
        """Hand the numbers of what is loaded to another array library, without copying them.

        Raises BufferError for what is not in memory, and where some numbers are invalid by a mask.
        """
        return shared_array(self._source).__dlpack__(**asked)

    def __dlpack_device__(self) -> tuple[int, int]:
        """Say where the numbers lie: in this machine's memory."""
        return (1, 0)

    def _masked_array(self) -> np.ma.MaskedArray[Any, Any]:
        raise NotImplementedError

    def close(self) -> None:
        """Let go of the file; reading again opens it again.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.ones((2, 2)))
        >>> raster.close()
        >>> raster.shape
        (1, 2, 2)
        """
        self._source.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()


@quiet_methods
class MapFace(DatasetFace):
    """A face of what lies on a map: its outline, and areas in it."""

    def to_polygons(
        self, classes: Sequence[float | str] | None = None, *, band: BandName = 1
    ) -> dict[str, Any]:
        """Return the areas of classes as GeoJSON, exact along the pixels' edges, holes kept.

        A feature for each area whose pixels hang together by their sides, with its ``value``,
        ``name`` (of classes that have one) and ``pixels``. ``classes`` are stored numbers or names;
        None: all that occur. Positions are the map's own: the ``crs`` member names the system,
        ``sp.save_shapes`` writes them. Raises LookError for a name there is not, and for measures
        of which none are named.

        >>> import numpy as np, spectrane as sp
        >>> found = sp.from_array(np.array([[1, 1, 2]])).to_polygons([1])
        >>> found["features"][0]["geometry"]["coordinates"]
        [[(2.0, 0.0), (2.0, 1.0), (0.0, 1.0), (0.0, 0.0), (2.0, 0.0)]]
        """
        from spectrane.spatial.tracing import class_polygons, class_values

        values = None if classes is None else class_values(self._source, classes)
        return class_polygons(self._source, find_bands(self._source.bands, band)[0], values)

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """The raster's outer edge as a GeoJSON feature, in its own coordinates."""
        from spectrane.spatial.shapes import system_member

        said = {"name": self.title, "rows": self.grid.rows, "columns": self.grid.columns}
        return {"type": "Feature", "properties": said, "geometry": self.grid.__geo_interface__,
                **system_member(self.grid.crs_text)}  # fmt: skip

    def propose_look(self, band: BandName | None = None) -> Look:
        """Return a look that fits: without a ``band`` a composite, where roles make one.

        Of one band what it means decides: its classes, its unit, or the signs it takes. A depth or
        height has its sharp zero in the middle only where both signs occur.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.array([[-9.0, 4.0]]), bands=[sp.Band("depth", unit="m")])
        >>> raster.propose_look().colormap.name
        'chartroom'
        """
        from spectrane.display.proposals import composite, proposed

        found = composite(self._source) if band is None else None
        index = 0 if band is None else find_bands(self._source.bands, band)[0]
        return (found or proposed(self._source, index))[0]
