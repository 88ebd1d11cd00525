"""Small pictures of what a notebook shows: quick, from what is at hand."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from spectrane.display.channels import shown_bands
from spectrane.display.plan import resolve
from spectrane.engine.memory import ArraySource
from spectrane.formats.png.encoding import encode_png
from spectrane.model.look import Look
from spectrane.model.source import Source
from spectrane.model.window import whole
from spectrane.spatial.turned import upright

SIDE = 192
"""Pixels of the longer side."""
QUICK = 4_000_000
"""Numbers that are read at most for it: more takes longer than a person would wait."""


def thumbnail(source: Source) -> bytes | None:
    """Return a small PNG of a raster, drawn as it is by default; None where it would take long.

    Its limits are those of the small picture itself.
    """
    source = upright(source)
    look = source.look or Look()
    bands = shown_bands(source, look, [])
    size = _fitting(source.shape)
    if not is_quick(source, size, len(bands)):
        return None
    pixels = source.read(bands, whole(source.shape), size, "area" if source.mixable else "nearest")
    small = ArraySource(
        pixels.values, grid=source.grid.resized(size), mask=pixels.mask, alpha=pixels.alpha,
        bands=[source.bands[band] for band in bands],
    )  # fmt: skip
    small.windows, small.coded, small.nodata_when = source.windows, source.coded, pixels.when
    look = replace(look, channels=tuple(range(1, len(bands) + 1)))
    plan = resolve(small, look)
    rgba = plan.draw(plan.read(small))
    down, across = small.grid.flips()
    return encode_png(np.ascontiguousarray(rgba[:: -1 if down else 1, :: -1 if across else 1]), {})


def is_quick(source: Source, size: tuple[int, ...], bands: int) -> bool:
    """Tell whether so many bands, made as small as ``size``, take few numbers to read."""
    nearest = [one for one in (source.shape, *source.overviews)
               if all(a >= b for a, b in zip(one, size, strict=True))]  # fmt: skip
    return min(map(math.prod, nearest), default=math.prod(source.shape)) * bands <= QUICK


def _fitting(shape: tuple[int, ...]) -> tuple[int, int]:
    scale = min(1.0, SIDE / max(shape))
    rows, columns = (max(1, round(length * scale)) for length in shape)
    return rows, columns


def small_planes(source: Source) -> bytes | None:
    """Return a small PNG of three planes through a volume; None where it would take long."""
    from spectrane.display.slices import three_planes
    from spectrane.spatial.held import HeldVolume

    if math.prod(source.shape) > QUICK:
        return None
    pixels = source.read([0], whole(source.shape))
    values = np.where(pixels.validity, pixels.values, np.nan) if source.dtype.kind == "f" else (
        pixels.values)  # fmt: skip
    held = HeldVolume(values, source.grid, source.bands[:1])
    held.look, held.windows, held.coded = source.look, source.windows, source.coded
    picture = three_planes(held, size=(SIDE, 3 * SIDE), labels=False, crosshair=False)
    return encode_png(picture.rgba, {})
