"""Hand-over to the array world: lazy arrays, and what a notebook shows."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

import dask.array
import numpy as np

import spectrane as sp
from benchmarks.contest import Row, contest, waited
from benchmarks.scenes import natural
from spectrane.engine import cache

SIDE, VAST = 6000, 100_000


def rows(folder: Path) -> Iterator[Row]:
    """Measure every row; a file of 6000 x 6000 is made once in ``folder``."""
    grid = sp.Grid.from_corner((VAST, VAST), x=0, y=1e6, pixel_size=10, crs="EPSG:32727")
    vast = sp.from_array(dask.array.zeros((1, VAST, VAST), chunks=(1, 5000, 5000), dtype="u2"),
                         grid=grid)  # fmt: skip
    yield waited(f"to_xarray(chunks=512) of {VAST} x {VAST}",
                 lambda: vast.to_xarray(chunks=512), 0.05)  # fmt: skip
    path = folder / "six.tif"
    if not path.exists():
        plane = natural(np.random.default_rng(3), (SIDE, SIDE))
        sp.from_array(plane).save(path, compress="deflate", overviews=True)

    def lazily() -> None:
        cache.blocks.clear()
        sp.open(path).to_dask().mean().compute()

    def ourselves() -> None:
        cache.blocks.clear()
        sp.open(path).statistics()

    sp.settings.cache_mb = 0  # nothing is remembered from the round before
    yield contest(f"Dask's mean over a file of {SIDE} x {SIDE}", lazily, ourselves, 1.3,
                  "raster.statistics()")  # fmt: skip
    del sp.settings.cache_mb
    raster = sp.open(path)
    yield waited("what a notebook shows of it, with its thumbnail", raster._repr_html_, 0.1)
