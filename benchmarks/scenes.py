"""Large scenes made row by row, for measuring without holding them."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.pyramid import cut_blocks
from spectrane.formats.tiff.writer import write_tiff
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, extent


class Scene(Source):
    """A scene of any size with the noise and correlation of natural pictures."""

    def __init__(self, rows: int, columns: int, bands: int) -> None:
        self.grid = Grid.from_corner((rows, columns), x=5e5, y=8e6, pixel_size=10, crs="EPSG:32727")
        names = (("blue", 490.0), ("green", 560.0), ("red", 665.0), ("nir", 842.0))
        self.bands = tuple(Band(name, wavelength=nm, scale=1e-4) for name, nm in names[:bands])
        self.dtype, self.block_shape = np.dtype(np.uint16), (512, 512)
        # Every band has its own noise: bands that are copies of one another pack, and unpack,
        # several times better than any sensor's.
        rng = np.random.default_rng(3)
        self._patches = [natural(rng, (2048, 2048)) + np.uint16(150 * k) for k in range(bands)]

    def read(
        self,
        bands: Sequence[int],
        window: Window,
        size: tuple[int, ...] | None = None,
        resample: str = "nearest",
    ) -> Pixels:
        """Answer at full resolution only."""
        rows = np.arange(*window[0]) % 2048
        columns = np.arange(*window[1]) % 2048
        out = np.empty((len(bands), *extent(window)), np.uint16)
        for index, band in enumerate(bands):
            out[index] = self._patches[band][rows][:, columns]
        return Pixels(out)

    def blocks(self, bands: Sequence[int], window: Window) -> Iterator[tuple[Window, Pixels]]:
        """Walk blocks of 512."""
        return cut_blocks(self, bands, window, self.block_shape)


def natural(rng: np.random.Generator, shape: tuple[int, int]) -> NDArray[np.uint16]:
    """Return smooth hills with a little noise, about 200 to 6000."""
    y, x = np.mgrid[: shape[0], : shape[1]] / 300.0
    hills = 2600 + 1500 * np.sin(x) * np.cos(1.3 * y) + 900 * np.sin(2.7 * x + y)
    return (hills + rng.normal(0, 25, shape)).clip(1, 65535).astype(np.uint16)


def big_file(folder: Path, *, overviews: bool, side: int = 20000) -> Path:
    """Write (once) a scene of side x side x 4 uint16 and return its path."""
    path = folder / f"scene_{side}{'' if overviews else '_plain'}.tif"
    if not path.exists():
        write_tiff(Scene(side, side, 4), path, overviews=overviews)
    return path
