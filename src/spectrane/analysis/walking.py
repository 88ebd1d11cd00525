"""Walking the valid values of bands: what every measurement is made from."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.threads import Progress, no_progress
from spectrane.engine.watching import told_walk
from spectrane.model.nodata import NoDataRule
from spectrane.model.patience import check_work
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source
from spectrane.model.window import Window, block_window, blocks_touching, intersection, window_area

_FEW = 8
"""A block of an image may be so many times what is enough of it."""


def valid_values(pixels: Pixels) -> list[NDArray[Any]]:
    """Return each band's valid and finite stored numbers as flat arrays."""
    masks = pixels.validity
    everything = pixels.valid.size == 1 and bool(pixels.valid.all())
    return [
        finite(values if everything else values[mask])
        for values, mask in zip(pixels.values, masks, strict=True)
    ]


def finite(values: NDArray[Any]) -> NDArray[Any]:
    """Return what is neither NaN nor infinite, as a flat array.

    >>> finite(np.array([1.0, np.nan, 2.0])).tolist()
    [1.0, 2.0]
    """
    flat = values.ravel(order="K")  # in whatever order they lie: nothing here depends on it
    if flat.dtype.kind != "f":
        return flat
    fine = np.isfinite(flat)
    return flat if fine.all() else flat[fine]


def plain_values(pixels: Pixels) -> list[tuple[NDArray[Any], float]]:
    """Return each band's numbers as (rows, columns), and the one among them that is no-data.

    Float32 numbers are left where they lie where nothing but NaN, infinities and that one (NaN:
    none) is invalid; else, and of other types, only the valid and finite ones are there.
    """
    alone = pixels.mask is None and pixels.alpha is None and pixels.values.ndim == 3
    agreed = pixels.when == "any" or len(pixels.values) == 1
    if pixels.values.dtype == np.float32 and alone and agreed:
        single = [_single(rule) for rule in pixels.rules]
        if None not in single:
            return [(v, float(one)) for v, one in zip(pixels.values, single, strict=True)
                    if one is not None]  # fmt: skip
    return [(values[np.newaxis], np.nan) for values in valid_values(pixels)]


def _single(rule: NoDataRule) -> float | None:
    """Return the only number of a rule, NaN where it has none; None where it says more."""
    found = rule.matching(np.dtype(np.float32))
    if rule.ranges or len(found) > 1:
        return None
    return float(found[0]) if found else np.nan


def walk(
    source: Source, bands: Sequence[int], window: Window, progress: Progress = no_progress
) -> Iterator[list[NDArray[Any]]]:
    """Yield the valid values of each band, block by block; progress counts pixels."""
    return (valid_values(pixels) for pixels in told_blocks(source, bands, window, progress))


def told_blocks(
    source: Source, bands: Sequence[int], window: Window, progress: Progress = no_progress
) -> Iterator[Pixels]:
    """Yield a window's blocks; progress counts pixels."""
    total = window_area(window)
    check_work(total * len(bands), source.name)
    return _telling(told_walk(source.blocks(bands, window), window), total, progress)


def _telling(
    blocks: Iterator[tuple[Window, Pixels]], total: int, progress: Progress
) -> Iterator[Pixels]:
    done = 0
    for part, pixels in blocks:
        yield pixels
        done += window_area(part)
        progress(done, total)


def sampled(source: Source, bands: Sequence[int], window: Window, least: int) -> Callable[
    [], Iterator[list[NDArray[Any]]]
]:  # fmt: skip
    """Return a walk over evenly spread blocks of a window, ``least`` pixels or more in all."""
    blocks = _spread(source, window, least)

    def walking() -> Iterator[list[NDArray[Any]]]:
        for part in blocks:
            yield valid_values(source.read(bands, part))

    return walking


def _spread(source: Source, window: Window, least: int) -> list[Window]:
    positions = blocks_touching(window, source.block_shape)
    per_block = max(1, window_area(window) // len(positions))
    wanted = min(len(positions), max(16, -(-least // per_block)))
    # A golden-ratio walk spreads any number of blocks evenly in both directions.
    picked = {int(k * 0.6180339887498949 % 1 * len(positions)) for k in range(4 * wanted)}
    chosen = sorted(picked)[:: max(1, len(picked) // wanted)]
    parts = (intersection(block_window(positions[k], source.block_shape, source.shape), window)
             for k in chosen)  # fmt: skip
    return [_thinned(part, least // wanted) for part in parts if part is not None]


def _thinned(part: Window, enough: int) -> Window:
    """Return one plane of a volume's block where that is enough: its blocks are many planes.

    Of the blocks of an image that is not stored in blocks a few rows are enough.
    """
    if len(part) < 3:
        (top, bottom), columns = part
        rows = max(1, _FEW * enough // (columns[1] - columns[0]))
        middle = max(top, (top + bottom - rows) // 2)
        return ((middle, min(bottom, middle + rows)), columns)
    if window_area(part[:-1]) < enough:
        return part
    middle = sum(part[-1]) // 2
    return (*part[:-1], (middle, middle + 1))
