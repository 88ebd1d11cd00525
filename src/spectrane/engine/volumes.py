"""Sources of three dimensions: i, j and k, with a place in the patient."""

from __future__ import annotations

from collections.abc import Sequence

from spectrane.engine.derived import Derived
from spectrane.engine.full import FullSource
from spectrane.model.errors import LookError
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, answer_size
from spectrane.model.window import Window, extent, whole


class VolumeSource(FullSource):
    """A volume that answers windows as they are, or at another size by the nearest voxels."""

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer one window. Raises LookError for another size by a kernel: cut a slice first."""
        wanted = answer_size(self.checked(window), size)
        if wanted != extent(window) and resample != "nearest":
            raise LookError(
                f"resample {resample}: volumes are made smaller by nearest alone; take a slice, or "
                "regrid"
            )
        return super().read(bands, window, size, resample)


class LoadedVolume(Derived, VolumeSource):
    """Another volume's voxels, held in memory with their validity."""

    def __init__(self, parent: Source) -> None:
        super().__init__(parent)
        self._held = parent.read(range(len(parent.bands)), whole(parent.shape))

        self.held_values = self._held.values

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from memory."""
        held = self._held.cut(tuple(slice(*pair) for pair in window))
        chosen = list(bands)
        mask = held.mask if held.mask is None or len(held.mask) == 1 else held.mask[chosen]
        return Pixels(held.values[chosen], mask=mask, rules=[held.rules[k] for k in chosen],
                      alpha=held.alpha, when=held.when)  # fmt: skip
