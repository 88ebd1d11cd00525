"""The same pixels, with another word on what they mean: names, units, no-data, place, look."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window


class Described(Derived, FullSource):
    """A source whose bands, place, look or metadata are described anew.

    Where no-data is another than the file's, its overviews are left alone: they were averaged
    under the old rule, and mix what is invalid now into what is valid.
    """

    def __init__(
        self, parent: Source, bands: Sequence[Band] | None = None,
        nodata_when: str | None = None, *, grid: Grid | None = None, look: Look | None = None,
        metadata: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        bands = parent.bands if bands is None else tuple(bands)
        same = [b.nodata for b in bands] == [b.nodata for b in parent.bands]
        self.same_nodata = same and nodata_when in (None, parent.nodata_when)
        super().__init__(
            parent, bands=bands, grid=grid or parent.grid, look=look or parent.look,
            nodata_when=nodata_when or parent.nodata_when, state=parent.state,
            metadata=parent.metadata if metadata is None else metadata,
            overviews=parent.overviews if self.same_nodata else (),
        )  # fmt: skip

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from the parent, under this source's own no-data rules."""
        if self.same_nodata:
            return self.parent.read(bands, window, size, resample)
        return super().read(bands, window, size, resample)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the parent, with the no-data rules of these bands."""
        return self._ruled(self.parent.read(bands, window), bands)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks."""
        for part, pixels in self.parent.blocks(bands, self.checked(window)):
            yield part, self._ruled(pixels, bands)

    def in_memory(self, band: int) -> NDArray[Any] | None:
        """Return what the parent has, where no-data is the same."""
        return self.parent.in_memory(band) if self.same_nodata else None

    def _ruled(self, pixels: Pixels, bands: Sequence[int]) -> Pixels:
        rules = [self.bands[band].rule for band in bands]
        return Pixels(
            pixels.values, mask=pixels.mask, rules=rules, alpha=pixels.alpha, when=self.nodata_when
        )


def ruled(source: Source, nodata_when: str | None) -> Source:
    """Return a source under another word on when a pixel is hidden; itself where it is the same."""
    if nodata_when in (None, source.nodata_when):
        return source
    return Described(source, nodata_when=nodata_when)
