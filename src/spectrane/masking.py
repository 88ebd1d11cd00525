"""Masks as people use them: made from a raster, combined with ``& | ~``, grown, and put on."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels.quiet import quiet, quiet_methods
from spectrane.model.band import BandName, find_band
from spectrane.model.errors import BandError, LookError
from spectrane.model.source import Source, flat_source_of
from spectrane.raster import Raster
from spectrane.spatial import masks as _masks
from spectrane.spatial.held import array_source


@quiet_methods
class Mask(Raster):
    """A raster of one band, true where a pixel is chosen.

    >>> import numpy as np, spectrane as sp
    >>> raster = sp.from_array(np.array([[1, 5, 9]], np.uint8))
    >>> both = sp.mask(raster, range=(2, 9)) & ~sp.mask(raster, values=5)
    >>> both.pixels().tolist()
    [[[False, False, True]]]
    """

    def __and__(self, other: Raster | NDArray[Any]) -> Mask:
        """Return where both are; another grid is looked up at the nearest pixel."""
        return Mask(_masks.JoinedMasks(self._source, self._other(other), "and"))

    def __or__(self, other: Raster | NDArray[Any]) -> Mask:
        """Return where either is."""
        return Mask(_masks.JoinedMasks(self._source, self._other(other), "or"))

    def _other(self, other: Raster | NDArray[Any]) -> Source:
        """Return the source of a mask, or of an array of this one's rows and columns."""
        if isinstance(other, np.ndarray):
            return array_source(other, grid=self.grid)
        return flat_source_of(other)

    def __invert__(self) -> Mask:
        """Return where it is not."""
        return Mask(_masks.Inverted(self._source))

    def grow(self, pixels: float) -> Mask:
        """Return the mask grown by a Euclidean distance in pixels (shrunk, below 0).

        >>> import numpy as np, spectrane as sp
        >>> dot = sp.mask(sp.from_array(np.eye(1, 5, 2)), values=1)
        >>> dot.grow(1).pixels().astype(int).tolist()
        [[[0, 1, 1, 1, 0]]]
        """
        return Mask(_masks.Grown(self._source, pixels))

    def shrink(self, pixels: float) -> Mask:
        """Return the mask shrunk by a Euclidean distance in pixels.

        >>> import numpy as np, spectrane as sp
        >>> bar = sp.mask(sp.from_array(np.array([[0, 1, 1, 1, 0]])), values=1)
        >>> bar.shrink(1).pixels().astype(int).tolist()
        [[[0, 0, 1, 0, 0]]]
        """
        return self.grow(-pixels)

    def areas(
        self, *, least: int = 1, most: int | None = None, neighbours: Literal[4, 8] = 8
    ) -> Mask:
        """Return the connected areas of at least ``least`` and at most ``most`` pixels.

        ``neighbours`` 8 are connected by corners too, 4 by sides alone.

        >>> import numpy as np, spectrane as sp
        >>> raster = sp.from_array(np.array([[1, 1, 0, 1]]))
        >>> sp.mask(raster, values=1).areas(least=2).pixels().astype(int).tolist()
        [[[1, 1, 0, 0]]]
        """
        return Mask(_masks.Sized(self._source, least, most, neighbours))

    def onto(self, raster: Raster) -> Mask:
        """Return the mask on another raster's grid: by nearest pixels, nothing chosen outside.

        Raises GridMismatch where one of them has no place and their rows and columns differ.

        >>> import numpy as np, spectrane as sp
        >>> chosen = sp.mask(sp.from_array(np.eye(2)), values=1)
        >>> chosen.onto(sp.from_array(np.zeros((2, 2)))).share()
        0.5
        """
        return Mask(_masks.mask_on(self._source, flat_source_of(raster)))

    def to_polygons(
        self, classes: Sequence[float | str] | None = None, *, band: BandName = 1
    ) -> dict[str, Any]:
        """Return what is chosen as GeoJSON, exact along the pixels' edges, holes kept.

        See ``Raster.to_polygons``.

        >>> import numpy as np, spectrane as sp
        >>> ring = sp.mask(sp.from_array(np.pad([[0]], 1, constant_values=1)), values=1)
        >>> [len(one) for one in ring.to_polygons()["features"][0]["geometry"]["coordinates"]]
        [5, 5]
        """
        return super().to_polygons(classes, band=band)

    @property
    def __geo_interface__(self) -> dict[str, Any]:
        """What is chosen as GeoJSON, in the mask's own coordinates."""
        return self.to_polygons()

    def share(self) -> float:
        """Return what share of the pixels is chosen, 0 to 1; all of them are read, by blocks.

        >>> import numpy as np, spectrane as sp
        >>> sp.mask(sp.from_array(np.array([[1, 5, 9, 9]])), values=9).share()
        0.5
        """
        return _masks.chosen_share(self._source)


@quiet
def mask(
    raster: Raster, *, values: float | Sequence[float] | None = None,
    range: Sequence[float | None] | None = None,
    where: str | None = None, bits: str | None = None, valid: bool = False,
    band: BandName | None = None,
) -> Mask:  # fmt: skip
    """Return where a raster's pixels pass one test; invalid pixels pass none.

    ``values``: one physical value or several; ``range``: (low, high), closed, either None;
    ``where``: an expression over its bands (``"nir > 0.2"``); ``bits``: quality bits of the stored
    number (``"bits 3-4 = 2"``, counted from 0); ``valid``: where it holds anything. ``band`` is
    tested by values, range and bits; it must be said of a raster of several. Raises LookError
    unless one test is given, BandError for a band that is not said or not there.

    >>> import numpy as np, spectrane as sp
    >>> sp.mask(sp.from_array(np.array([[1, 5, 9]])), range=(2, None)).pixels().tolist()
    [[[False, True, True]]]
    """
    source = flat_source_of(raster)
    given = [values is not None, range is not None, where is not None, bits is not None, valid]
    if sum(given) != 1:
        raise LookError("mask: give one of values, range, where, bits and valid")
    if valid:
        return Mask(_masks.Footprint(source))
    if where is not None:
        from spectrane.analysis.expressions import Computed

        return Mask(_masks.Truth(Computed(source, {"chosen": where})))
    if band is None and len(source.bands) > 1:
        raise BandError(
            f"mask: {source.name or 'the raster'} has {len(source.bands)} bands; say which one is "
            f"tested: {', '.join(held.name for held in source.bands[:12])}"
        )
    index = 0 if band is None else find_band(source.bands, band)
    return Mask(_masks.ByTest(source, index, _test(values, range, bits)))


def _test(values: Any, range: Any, bits: str | None) -> _masks.Test:
    if bits is not None:
        return _masks.bits_test(bits)
    if values is not None:
        listed = values if isinstance(values, list | tuple) else [values]
        return _masks.Test(values=tuple(float(value) for value in listed))
    low, high = range
    return _masks.Test(low=low, high=high)
