"""Reading whole files, and commands from a cold start."""

from __future__ import annotations

import os
import subprocess
import sys
import threading
from collections.abc import Callable, Iterator
from pathlib import Path

import imagecodecs
import numpy as np

import spectrane as sp
from benchmarks.contest import Row, contest
from benchmarks.scenes import Scene, big_file
from spectrane.engine import cache
from spectrane.formats.registry import open_source
from spectrane.formats.tiff.writer import write_tiff

_CODECS = {
    "deflate": imagecodecs.deflate_decode,
    "lzw": imagecodecs.lzw_decode,
    "zstd": imagecodecs.zstd_decode,
}
_LEAST_RATE = {"deflate": 0.85, "lzw": 0.85, "zstd": 0.80}


def rows(folder: Path) -> Iterator[Row]:
    """Measure every row; large files are made once in ``folder``."""
    yield from _whole_reads(folder)
    yield from _cold(folder)


def _whole_reads(folder: Path) -> Iterator[Row]:
    for compress, rate in _LEAST_RATE.items():
        path = folder / f"whole_{compress}.tif"
        if not path.exists():
            write_tiff(Scene(6144, 6144, 4), path, compress=compress, overviews=False, tile=256)

        def ours(path: Path = path) -> None:
            cache.blocks.clear()
            sp.open(path).load()

        yield contest(
            f"raster.load(), 4 x uint16, {compress} and predictor", ours,
            codec_alone(path, _CODECS[compress]), 1 / rate, "codec alone", 5,
        )  # fmt: skip


def codec_alone(path: Path, decode: Callable[..., object]) -> Callable[[], None]:
    """Return a function that only decodes a file's tiles: in memory, two threads, own buffers."""
    layout = open_source(path).levels[0].samples.layout
    data = path.read_bytes()
    tiles = [data[o : o + n] for o, n in zip(layout.offsets, layout.counts, strict=True)]

    def run(which: int) -> None:
        buffer = np.empty(layout.block_bytes, np.uint8)
        for tile in tiles[which::2]:
            decode(tile, out=buffer)

    def both() -> None:
        threads = [threading.Thread(target=run, args=(k,)) for k in range(2)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()

    return both


def _command(*arguments: str, cache: str | None = None) -> Callable[[], None]:
    """Return a run of the command; ``cache`` "0" is a first look, without what was kept before."""
    environment = {k: v for k, v in os.environ.items() if k != "PYTHONDONTWRITEBYTECODE"}
    environment |= {} if cache is None else {"SPECTRANE_CACHE_MB": cache}
    script = [str(Path(sys.executable).with_name("spectrane")), *arguments]

    def run() -> None:
        subprocess.run(script, check=True, capture_output=True, env=environment)

    return run


def _import_numpy() -> None:
    subprocess.run([sys.executable, "-c", "import numpy"], check=True)


def _cold(folder: Path) -> Iterator[Row]:
    path = str(big_file(folder, overviews=True))
    out = ["-o", str(folder / "out.png"), "--overwrite", "--size", "1280x800", "-q"]
    draw = ["render", path, "--limits", "percentile:2,98", *out]
    zooms = {
        "whole image": ([], 2.3),
        "one to one": (["--row-range", "9000,9800", "--column-range", "9000,10280"], 4.0),
        "just short of 2:1": (["--row-range", "9000,10592", "--column-range", "9000,11547"], 3.5),
    }
    yield contest("spectrane --help", _command("--help"), _import_numpy, 1.0, "import numpy")
    yield contest(
        "spectrane describe", _command("describe", path), _import_numpy, 2.2, "import numpy"
    )
    for name, (part, limit) in zooms.items():
        yield contest(
            f"cold render of 20 000 x 20 000 x 4, {name}", _command(*draw, *part), _import_numpy,
            limit, "import numpy",
        )  # fmt: skip
    said = ["render", path, *out[:3], "-q"]
    yield contest("the same where nothing more is said, 2048 pixels", _command(*said),
                  _import_numpy, 8.0, "import numpy")  # fmt: skip
    plain = big_file(folder, overviews=False)
    yield contest(
        "the same without overviews, the first look",
        _command("render", str(plain), *draw[2:], cache="0"),
        codec_alone(plain, _CODECS["deflate"]), 1.4, "codec alone", 2,
    )  # fmt: skip
    yield contest("the same, the next cold look", _command("render", str(plain), *draw[2:]),
                  _import_numpy, 3.0, "import numpy")  # fmt: skip
    probe = ["probe", str(plain), "--pixel-at", "9000,9000", "--limits", "percentile:2,98"]
    yield contest("cold probe of a pixel, limits of a sample", _command(*probe, cache="0"),
                  _import_numpy, 3.0, "import numpy")  # fmt: skip
    yield contest("cold probe of a pixel, limits found before", _command(*probe), _import_numpy,
                  3.0, "import numpy")  # fmt: skip
