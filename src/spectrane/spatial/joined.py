"""The bands of several sources on one grid, as one source."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.model.addresses import file_stem
from spectrane.model.band import Band, unnamed
from spectrane.model.errors import GridMismatch
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent
from spectrane.spatial.grids import offset_on


class JoinedBands(Derived, FullSource):
    """Bands of sources whose pixels coincide, in the order given."""

    what = "join_bands: there are no rasters"

    def __init__(self, parents: Sequence[Source]) -> None:
        if not parents:
            raise GridMismatch(self.what)
        self.check(parents)
        super().__init__(
            *parents, bands=_named(parents),
            dtype=np.result_type(*[parent.dtype for parent in parents]),
            has_mask=any(parent.has_mask or parent.alpha for parent in parents),
            nodata_when="any", alpha=None, look=None, metadata={},
        )  # fmt: skip

    def check(self, parents: Sequence[Source]) -> None:
        """Raise GridMismatch where pixels do not coincide."""
        first = parents[0]
        for parent in parents[1:]:
            if parent.shape != first.shape or offset_on(parent.grid, first.grid) != (0, 0):
                raise GridMismatch(
                    f"join_bands: {parent.name or 'a raster'} does not lie on the first one's "
                    f"pixels ({parent.shape} at {parent.grid.bounds}; {first.shape} at "
                    f"{first.grid.bounds}); regrid it first"
                )

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from each source that holds a band asked for."""
        values = np.empty((len(bands), *extent(window)), self.dtype)
        mask = np.ones(values.shape, bool)
        start = 0
        for parent in self.parents:
            places = [
                k for k, band in enumerate(bands) if start <= band < start + len(parent.bands)
            ]
            if places:
                pixels = parent.read([bands[k] - start for k in places], window)
                values[places] = pixels.values
                mask[places] = pixels.validity
            start += len(parent.bands)
        return Pixels(values, mask=None if mask.all() else mask)


def _named(parents: Sequence[Source]) -> tuple[Band, ...]:
    """Return all bands, each with a name of its own: without one its file's, else with it."""
    found: list[tuple[Band, str]] = []
    for parent in parents:
        stem = parent.told_as or file_stem(parent.name)
        for index, band in enumerate(parent.bands):
            plain = unnamed(band, index)
            number = f" {index + 1}" if len(parent.bands) > 1 else ""
            name = f"{stem}{number}" if plain and stem else f"band {len(found) + 1}" if plain else (
                band.name)  # fmt: skip
            found.append((replace(band, name=name), stem))
    known = Counter(band.name for band, _ in found)
    named = [replace(band, name=f"{stem} {band.name}") if known[band.name] > 1 and stem else band
             for band, stem in found]  # fmt: skip
    seen: Counter[str] = Counter()
    unique = []
    for band in named:
        seen[band.name] += 1
        again = seen[band.name] > 1
        unique.append(replace(band, name=f"{band.name} ({seen[band.name]})") if again else band)
    return tuple(unique)
