"""A part of a source: some of its bands, one window of it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace

from spectrane.engine.derived import Derived
from spectrane.model.band import renumbered
from spectrane.model.look import Look
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size
from spectrane.model.window import Window, extent, shifted


class Subset(Derived):
    """Bands and a window of another source; a part of a part keeps one list and one window."""

    indices: tuple[int, ...]
    window: Window

    def __init__(self, parent: Source, indices: Sequence[int], window: Window) -> None:
        if isinstance(parent, Subset):
            indices = [parent.indices[index] for index in indices]
            window = shifted(window, [start for start, _ in parent.window])
            parent = parent.parent
        self.indices, self.window = tuple(indices), window
        super().__init__(
            parent, bands=renumbered(parent.bands, self.indices),
            grid=parent.grid.cropped(window),
        )  # fmt: skip
        if parent.geolocation is not None:
            self.geolocation = parent.geolocation.cropped(window)
        self.overviews = tuple(self._scaled(shape) for shape in parent.overviews)
        self.look = self._kept_look()

    def _scaled(self, shape: tuple[int, ...]) -> tuple[int, ...]:
        return tuple(
            max(1, -(-length * reduced // full))
            for length, reduced, full in zip(
                extent(self.window), shape, self.parent.shape, strict=True
            )
        )

    def _kept_look(self) -> Look | None:
        """Return the file's look unless it shows a band that is gone."""
        look = self.parent.look
        kept_all = sorted(self.indices) == list(range(len(self.parent.bands)))
        if look is None or kept_all or (look.classes and len(self.bands) == 1):
            return look
        return None if look.channels is not None else replace(look, classes={})

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer from the parent, in its own overviews where they serve."""
        window = self.checked(window)
        self.check_bands(bands)
        wanted = answer_size(window, size)
        return self.parent.read(self._up(bands), self._moved(window), wanted, resample)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk the parent's blocks."""
        back = [-start for start, _ in self.window]
        for part, pixels in self.parent.blocks(self._up(bands), self._moved(self.checked(window))):
            yield shifted(part, back), pixels

    def _up(self, bands: Sequence[int]) -> list[int]:
        return [self.indices[band] for band in bands]

    def _moved(self, window: Window) -> Window:
        return shifted(window, [start for start, _ in self.window])
