"""Display and counting kernels against a copy or a sum of the same array."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np

import spectrane as sp
from benchmarks.contest import Row, contest
from benchmarks.scenes import natural
from spectrane.analysis import ranking
from spectrane.display.drawing import draw
from spectrane.display.shading import Scale, Shading
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels import choice, counting, curves, shrinking, steps
from spectrane.model.band import Band
from spectrane.model.pixels import Pixels

SIDE = 6000


def rows() -> Iterator[Row]:
    """Measure every row; natural data unless the row says otherwise."""
    rng = np.random.default_rng(5)
    patch = natural(rng, (2000, 2000))
    band = np.tile(patch, (3, 3))
    choice.force("loop")
    try:
        yield from _integers(band)
        yield from _floats(band.astype(np.float32))
        yield from _counts(band, rng)
        yield from _shrinking(band)
    finally:
        choice.force(None)


def _shading(name: str) -> Shading:
    scale = Scale(name, 300.0, 5200.0, "linear", False, None, True, "fixed:300,5200")
    return Shading(Band(name, nodata=0), scale, curves.linear)


def _integers(band: np.ndarray) -> Iterator[Row]:
    values = np.stack([band, band + np.uint16(150), band + np.uint16(300)])
    copied = np.empty_like(values)
    copied[...] = values
    shadings = [_shading(name) for name in ("red", "green", "blue")]
    pixels = Pixels(values, rules=[s.band.rule for s in shadings])
    picture = np.empty((SIDE, SIDE), np.uint32)
    made = [shading.table(values.dtype) for shading in shadings]
    parts = row_parts(SIDE, SIDE * 3)

    from spectrane.kernels import tables

    words = tables.words.choose(values.size)

    def into() -> None:
        in_parallel(
            parts,
            lambda: lambda part: words([v[part] for v in values], made, False, 0, picture[part]),
        )

    def copy() -> None:
        np.copyto(copied, values)

    yield contest("3 x uint16 to RGBA, limits and no-data, out= given", into, copy, 2.0, "copy")
    yield contest(
        "the same with a fresh result", lambda: draw(pixels, shadings, None), copy, 3.0, "copy"
    )

    def plain() -> np.ndarray:
        t = np.clip((values.astype(np.float64) - 300) / 4900, 0, 1)
        rgb = np.floor(t * 255 + 0.5).astype(np.uint8)
        return np.concatenate([rgb, np.where((values != 0).all(0), 255, 0).astype(np.uint8)[None]])

    yield contest("the same against float64 NumPy (at most 1/25)", into, plain, 1 / 25, "NumPy", 3)

    loaded = sp.from_array(values, nodata=0)
    looks = [sp.Look(channels=(1, 2, 3), limits=limits, curve=curve) for limits, curve in (
        ((300, 5200), "linear"), ("percentile:2,98", "gamma:1.8"), ("deviation:2", "log:3"),
        ("minmax", "asinh"), ("percentile:1,99", "equalise"))]  # fmt: skip
    for look in looks:
        yield contest(
            f"a loaded view drawn anew, {look.limits[0]}, {look.curve}",
            lambda look=look: sp.render(loaded, look, size=(SIDE, SIDE)), copy, 3.0, "copy", 5,
        )  # fmt: skip


def _floats(values: np.ndarray) -> Iterator[Row]:
    values[::7, ::5] = np.nan
    copied = values.copy()
    picture = np.empty((SIDE, SIDE), np.uint32)
    palette = np.arange(256, dtype=np.uint32) * 0x010101 | np.uint32(0xFF000000)
    parts = row_parts(SIDE, SIDE)
    words = steps.step_words.choose(values.size)
    definitions = {
        "linear": (lambda v: curves.position(v, 300, 5200), 1.5),
        "log over 3 decades": (
            lambda v: np.log10(1 + 999 * curves.position(v, 300, 5200)) / 3,
            3.0,
        ),
        "square root": (lambda v: np.sqrt(curves.position(v, 300, 5200)), 3.0),
    }
    for name, (curve, limit) in definitions.items():
        stair = steps.staircase(lambda v, curve=curve: curves.level(curve(v), 255))
        if name == "linear":
            stair = replace(stair, line=steps.Line(1.0, 0.0, 300.0, 4900.0, False))

        def into(stair: steps.Staircase = stair) -> None:
            in_parallel(
                parts,
                lambda: lambda p: words(values[p], stair, palette, np.nan, 0, picture[p]),
            )

        yield contest(
            f"float32 with NaN to colours, {name}, exact levels", into,
            lambda: np.copyto(copied, values), limit, "copy",
        )  # fmt: skip


def _counts(band: np.ndarray, rng: np.random.Generator) -> Iterator[Row]:
    uniform = rng.integers(0, 65536, band.shape).astype(np.uint16)
    constant = np.full(band.shape, 777, np.uint16)
    for name, array in (("natural", band), ("uniform", uniform), ("constant", constant)):
        flat = array.ravel()
        yield contest(
            f"histogram of uint16, 65 536 bins, {name}",
            lambda flat=flat: ranking.count_small(flat, np.zeros(65536, np.int64)),
            lambda flat=flat: flat.sum(), 1.5, "sum",
        )  # fmt: skip
    floats = band.astype(np.float32).ravel() * np.float32(0.37)
    count = counting.count_bins.choose(floats.size)
    yield contest(
        "histogram of float32, 4096 bins",
        lambda: ranking.counted(floats, (4096,), lambda v, out: count(v, 0.0, 1.7, out)),
        lambda: floats.sum(), 2.5, "sum",
    )  # fmt: skip
    yield contest(
        "exact percentiles of float32",
        lambda: ranking.exact_percentiles(lambda: [floats], (2, 50, 98)),
        lambda: floats.sum(), 3.0, "sum",
    )  # fmt: skip


def _shrinking(band: np.ndarray) -> Iterator[Row]:
    from PIL import Image

    values = band[:4000, :5096].astype(np.float32)
    valid = np.ones(values.shape, bool)
    valid[:300, :200] = False
    size = (800, 1274)
    spans = [
        shrinking.spans(0.0, float(n), m, (0, n)) for n, m in zip(values.shape, size, strict=True)
    ]
    add = shrinking.add_area.choose(values.size)
    image = Image.fromarray(values)

    def ours() -> None:
        add(values, valid, *spans, np.zeros(size), np.zeros(size))

    def theirs() -> None:
        image.resize(size[::-1], Image.Resampling.BOX)

    yield contest("area mean with validity, factor 4 to 5", ours, theirs, 2.0, "Pillow without")
