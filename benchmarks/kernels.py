"""Pictures and measurements through the public face, against a copy or a sum of the same array."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

import spectrane as sp
from benchmarks.contest import Row, contest
from benchmarks.scenes import natural

SIDE = 6000


def rows() -> Iterator[Row]:
    """Measure every row; natural data unless the row says otherwise."""
    rng = np.random.default_rng(5)
    band = np.tile(natural(rng, (2000, 2000)), (3, 3))
    yield from _integers(band)
    yield from _floats(band.astype(np.float32))
    yield from _counts(band, rng)
    yield from _shrinking(band)


def _integers(band: np.ndarray) -> Iterator[Row]:
    values = np.stack([band, band + np.uint16(150), band + np.uint16(300)])
    copied = np.empty_like(values)
    copied[...] = values

    def copy() -> None:
        np.copyto(copied, values)

    raster = sp.from_array(values, nodata=0)
    looks = [sp.Look(channels=(1, 2, 3), limits=limits, curve=curve) for limits, curve in (
        ((300, 5200), "linear"), ("percentile:2,98", "gamma:1.8"), ("deviation:2", "log:3"),
        ("minmax", "asinh"), ("percentile:1,99", "equalise"))]  # fmt: skip
    for look in looks:
        yield contest(
            f"3 x uint16 to RGBA drawn anew, {look.limits[0]}, {look.curve}",
            lambda look=look: sp.render(raster, look, size=(SIDE, SIDE)), copy, 3.0, "copy",
        )  # fmt: skip
    plan = sp.render(raster, looks[0], size=(600, 600)).plan
    pixels = plan.read(raster._source)
    yield contest("the same by a plan that is kept", lambda: plan.draw(pixels), copy, 3.0, "copy")

    def plain() -> np.ndarray:
        t = np.clip((values.astype(np.float64) - 300) / 4900, 0, 1)
        rgb = np.floor(t * 255 + 0.5).astype(np.uint8)
        return np.concatenate([rgb, np.where((values != 0).all(0), 255, 0).astype(np.uint8)[None]])

    yield contest(
        "the same against float64 NumPy (at most 1/25)",
        lambda: sp.render(raster, looks[0], size=(SIDE, SIDE)), plain, 1 / 25, "NumPy", 3,
    )  # fmt: skip


def _floats(values: np.ndarray) -> Iterator[Row]:
    values[::7, ::5] = np.nan
    copied = values.copy()
    raster = sp.from_array(values)
    for curve in ("linear", "log:3", "sqrt"):
        look = sp.Look(limits=(300, 5200), curve=curve, colormap="kiln")
        yield contest(
            f"float32 with NaN to colours drawn anew, {curve}, exact levels",
            lambda look=look: sp.render(raster, look, size=(SIDE, SIDE)),
            lambda: np.copyto(copied, values), 3.0, "copy",
        )  # fmt: skip


def _counts(band: np.ndarray, rng: np.random.Generator) -> Iterator[Row]:
    uniform = rng.integers(0, 65536, band.shape).astype(np.uint16)
    constant = np.full(band.shape, 777, np.uint16)
    for name, array in (("natural", band), ("uniform", uniform), ("constant", constant)):
        raster = sp.from_array(array, nodata=0)
        yield contest(
            f"raster.histogram() of uint16, {name}", raster.histogram, array.sum, 1.5, "sum"
        )
    floats = band.astype(np.float32) * np.float32(0.37)
    raster = sp.from_array(floats)
    holed = floats.copy()
    holed[::7, ::5] = -9999
    for name, one in (("", raster), (" with no-data", sp.from_array(holed, nodata=-9999))):
        yield contest(f"raster.histogram() of float32{name}", one.histogram, floats.sum, 2.5, "sum")
        yield contest(
            f"raster.statistics() of float32 with percentiles{name}", one.statistics, floats.sum,
            5.0, "sum",
        )  # fmt: skip


def _shrinking(band: np.ndarray) -> Iterator[Row]:
    from PIL import Image

    values = band[:4000, :5096].astype(np.float32)
    values[:300, :200] = -1
    size = (800, 1274)
    image = Image.fromarray(values)
    raster = sp.from_array(values, nodata=-1)

    def ours() -> None:
        raster.pixels(size=size, resample="area")

    def theirs() -> None:
        image.resize(size[::-1], Image.Resampling.BOX)

    yield contest("area mean with validity, factor 4 to 5", ours, theirs, 2.0, "Pillow without")
