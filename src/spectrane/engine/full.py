"""Sources that answer windows as they are; other sizes are made from the resolutions they have."""

from __future__ import annotations

from abc import abstractmethod
from collections.abc import Iterator, Sequence
from contextlib import AbstractContextManager, nullcontext

from spectrane.engine.pyramid import Level, Whole, cut_blocks, read_resized
from spectrane.model.errors import FormatError
from spectrane.model.pixels import Pixels
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source, answer_size, check_answer
from spectrane.model.window import Window, extent


class FullSource(Source):
    """A source whose subclass answers at its native resolution, and names overviews if any."""

    of_file = False
    """Whether what is stumbled over while it is read is the fault of a file, and is told so."""

    @abstractmethod
    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window inside the raster, of bands there are, at its own size."""

    def resolutions(self) -> Sequence[Level]:
        """Return the full resolution and any overviews, finest first."""
        return [Whole.of(self)]

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer one window; another size is made from ``resolutions``."""
        window = self.checked(window)
        self.check_bands(bands)
        wanted = answer_size(window, size)
        check_answer(len(bands), wanted, self.dtype)
        with self._reading():
            if wanted == extent(window):
                return self.read_native(bands, window)
            return read_resized(self.resolutions(), bands, window, wanted, resample, self.name)

    def reading_blocks(
        self, walk: Iterator[tuple[Window, Pixels]]
    ) -> Iterator[tuple[Window, Pixels]]:
        """Walk blocks that are read otherwise than by ``read``, under the same guard."""
        with self._reading():
            yield from walk

    def _reading(self) -> AbstractContextManager[None]:
        if not self.of_file:
            return nullcontext()
        return ReadingAs(self.name, FormatError, problem="broken data")

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk blocks of ``block_shape``."""
        return cut_blocks(self, bands, self.checked(window), self.block_shape)
