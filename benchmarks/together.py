"""Regridding, blending, and mosaics of more and more tiles."""

from __future__ import annotations

import contextlib
import json
import os
import subprocess
import sys
import time
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import numpy as np

import spectrane as sp
from benchmarks.contest import Row, contest
from benchmarks.scenes import natural
from spectrane.engine.memory import ArraySource
from spectrane.formats.tiff.writer import write_tiff
from spectrane.kernels import choice
from spectrane.model.grid import Grid
from spectrane.spatial.coordinates import Mapping

SIDE = 3000
TILE, OVERLAP = 600, 72
COUNTS = (4, 25, 100, 400)
_MOST_DECODES, _MEAN_DECODES, _SAME_MEMORY = 2, 1.2, 1.1


def rows(folder: Path) -> Iterator[Row]:
    """Measure every row; tiles are made once in ``folder``."""
    yield from _regridding()
    yield from _blending()
    yield from _mosaics(folder)


def _regridding() -> Iterator[Row]:
    """Cubic with holes, to the next zone, against SciPy's cubic without any."""
    from scipy.ndimage import map_coordinates

    rng = np.random.default_rng(5)
    plane = natural(rng, (SIDE, SIDE)).astype(np.float32)
    holed = plane.copy()
    holed[rng.random(plane.shape) < 0.0001] = np.nan
    holed[400:700, 900:1400] = np.nan
    grid = Grid.from_corner((SIDE, SIDE), x=480000, y=7360000, pixel_size=10, crs="EPSG:32727")
    raster = sp.from_array(holed, grid=grid)
    moved = raster.regrid(crs="EPSG:32728", resample="cubic")
    window = {"rows": (200, SIDE - 200), "columns": (200, SIDE - 200)}
    part = moved.crop(**window)
    columns, down = Mapping(moved.grid, grid).positions(tuple(window.values()))
    points = [down - 0.5, columns - 0.5]

    def scipy() -> None:
        map_coordinates(plane, points, order=3, prefilter=False, output=np.float32)

    for threads, limit in ((1, 5), (2, 8)):
        with cores(threads):
            yield contest(
                f"raster.regrid to the next zone, cubic with holes, {threads} threads "
                f"(at most 1/{limit})", part.load, scipy, 1 / limit, "map_coordinates", 5,
            )  # fmt: skip


@contextlib.contextmanager
def cores(count: int) -> Iterator[None]:
    """Let this process run on so many cores for a while."""
    before = os.sched_getaffinity(0)
    os.sched_setaffinity(0, sorted(before)[:count])
    try:
        yield
    finally:
        os.sched_setaffinity(0, before)


def _blending() -> Iterator[Row]:
    rng = np.random.default_rng(5)
    pictures = [rng.integers(0, 256, (4, SIDE, SIDE), np.uint8) for _ in range(5)]
    look = sp.Look(channels=(1, 2, 3, 4), limits="type")
    layers = [sp.Layer(sp.from_array(one), look, opacity=share)
              for one, share in zip(pictures, (1, 0.7, 0.5, 1, 0.3), strict=True)]  # fmt: skip
    stack = sp.stack(layers, size=(SIDE, SIDE))
    copies = [one.copy() for one in pictures]

    def base() -> None:
        for one, into in zip(pictures, copies, strict=True):
            np.copyto(into, one)

    yield contest("5 RGBA layers of a stack blended", stack.blended, base, 2.5, "copying them")


def make_tiles(folder: Path, count: int) -> list[Path]:
    """Write ``count`` overlapping tiles of 3 x uint16 in a square, and return them."""
    folder.mkdir(parents=True, exist_ok=True)
    patch = natural(np.random.default_rng(3), (2400, 2400))
    step = TILE - OVERLAP
    base = Grid.from_corner((1, 1), x=300000, y=7400000, pixel_size=10, crs="EPSG:32727")
    found = []
    for row, column in tile_places(count):
        path = tile_path(folder, row, column)
        found.append(path)
        if path.exists():
            continue
        r, c = (row * 331) % 1800, (column * 277) % 1800
        cut = patch[r : r + TILE, c : c + TILE]
        values = np.stack([cut, cut + np.uint16(90), cut + np.uint16(30)])
        place = ((row * step, row * step + TILE), (column * step, column * step + TILE))
        write_tiff(ArraySource(values, grid=base.cropped(place)), path, tile=256)
    return found


def tile_places(count: int) -> list[tuple[int, int]]:
    """Return the rows and columns of a square of tiles."""
    side = round(count**0.5)
    return [(row, column) for row in range(side) for column in range(side)]


def tile_path(folder: Path, row: int, column: int) -> Path:
    """Return the file of one tile."""
    return folder / f"{row:02}_{column:02}.tif"


def measure(folder: str, count: str) -> None:
    """Write one mosaic, and print its time, peak memory and decodes: for a process of its own."""
    from spectrane.formats.tiff import source as tiff

    decodes: Counter[object] = Counter()
    plain = tiff.TiffPlane._place

    def counted(self, decoder, job, *rest):  # type: ignore[no-untyped-def]
        decodes[self.key, job.key] += 1
        plain(self, decoder, job, *rest)

    tiff.TiffPlane._place = counted  # type: ignore[method-assign]
    paths = [tile_path(Path(folder), *place) for place in tile_places(int(count))]
    choice.force("loop")
    start = time.perf_counter()
    joined = sp.mosaic([sp.open(path) for path in paths], rule="feather", width=OVERLAP // 2)
    joined.save(Path(folder) / f"out_{count}.tif", overwrite=True, compress="zstd")
    print(json.dumps({
        "tiles": int(count), "seconds": time.perf_counter() - start,
        "memory": _peak(),
        "most": max(decodes.values()), "mean": sum(decodes.values()) / len(decodes),
        "blocks": len(decodes), "pixels": joined.shape[1] * joined.shape[2],
    }))  # fmt: skip


def _peak() -> float:
    """Return this program's peak memory in MB; what ran before it in the process is left out."""
    for text in Path("/proc/self/status").read_text().splitlines():
        if text.startswith("VmHWM"):
            return int(text.split()[1]) / 1024
    return float("nan")


def scaling(folder: Path, counts: tuple[int, ...] = COUNTS) -> list[dict[str, float]]:
    """Measure mosaics of more and more tiles, each in a process of its own."""
    found = []
    for count in counts:
        code = f"from benchmarks.together import measure; measure({str(folder)!r}, '{count}')"
        make_tiles(folder, count)
        done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True,
                              check=True)  # fmt: skip
        found.append(json.loads(done.stdout))
        print(found[-1], flush=True)
    return found


def _mosaics(folder: Path) -> Iterator[Row]:
    found = {one["tiles"]: one for one in scaling(folder / "mosaic", (25, 100, 400))}
    hundred, most = found[100], found[400]

    def row(work: str, value: float, limit: float, unit: str) -> Row:
        return Row(work, value, value, limit, hundred["seconds"], unit)

    yield row("mosaic of 100 tiles, feathered: a block is decoded at most", hundred["most"],
              _MOST_DECODES, "times")  # fmt: skip
    yield row("the same, on average", hundred["mean"], _MEAN_DECODES, "times")
    yield row("peak memory of 400 tiles", most["memory"] / hundred["memory"], _SAME_MEMORY,
              "that of 100")  # fmt: skip
    yield row("time of 400 tiles", most["seconds"] / hundred["seconds"] / 4, 1.25,
              "4 times that of 100")  # fmt: skip
