"""Putting shaded channels together into a picture, pixel by pixel."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.display.adjusting import adjusted
from spectrane.display.shading import Palette, Shading, word_of
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels import levels, steps, tables
from spectrane.model.colors import Class
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels

Rgba = NDArray[np.uint8]
_FindT: TypeAlias = Callable[[NDArray[Any]], NDArray[np.float64]]
_LOOKED_UP = 1_500_000
"""Numbers found in tables for which another thread is begun: a core does so many in the time that
one takes to begin, and to be waited for.
"""
_ADJUSTED = 1 << 15
"""Pixels that are adjusted at once: several planes of them in floats fit in the cache."""


def draw(pixels: Pixels, shadings: Sequence[Shading], hidden: str | None) -> Rgba:
    """Return (rows, columns, 4) uint8 with straight alpha: 1, 3 or 4 channels.

    ``hidden`` is the colour of pixels that are not shown. A fourth channel is alpha.
    """
    rows, columns = pixels.values.shape[1:]
    words = np.empty((rows, columns), np.uint32)
    paint = _painter(pixels, shadings, word_of(hidden))
    fewest = {"least": _LOOKED_UP} if _by_tables(pixels) else {}
    parts = row_parts(rows, columns * len(shadings), **fewest)
    in_parallel(parts, lambda: lambda part: paint(pixels.cut((part, slice(None))), words[part]))
    return words.view(np.uint8).reshape(rows, columns, 4)


def drawn_again(
    pixels: Pixels, shadings: Sequence[Shading], before: Sequence[Shading], picture: Rgba
) -> Rgba | None:
    """Return what ``draw`` does where nothing is hidden by a colour, from its picture of the same
    pixels by shadings ``before``: channels that are as they were are not looked up again.

    None where there is nothing to be spared.
    """
    pairs = list(zip(shadings, before, strict=False))
    changed = [k for k, (one, other) in enumerate(pairs) if one != other]
    plain = pixels.alpha is None and _by_tables(pixels) and len(shadings) == len(before) == 3
    if not plain or len(changed) == 3 or any(one.band != other.band for one, other in pairs):
        return None
    made = {k: shadings[k].table(pixels.values.dtype) & 0xFF for k in changed}
    bands = {k: tables.as_index(pixels.values[k]) for k in changed}
    words, out = picture.view(np.uint32)[..., 0], np.empty_like(picture)

    def paint(part: slice) -> None:
        some = {k: band[part] for k, band in bands.items()}
        tables.changed_words(words[part], some, made, out.view(np.uint32)[part, :, 0])

    rows, columns = picture.shape[:2]
    in_parallel(row_parts(rows, columns * len(changed), _LOOKED_UP), lambda: paint)
    return out


def _painter(pixels: Pixels, shadings: Sequence[Shading], hidden: int) -> Any:
    dtype, work = pixels.values.dtype, pixels.values.size
    plain = pixels.alpha is None and len(shadings) in (1, 3)
    if plain and _by_tables(pixels):
        painter = _table_painter(dtype, shadings, hidden, work)
        return painter if pixels.mask is None else _masked(painter, hidden)
    if plain and dtype == np.float32 and len(shadings) == 1 and shadings[0].stepped:
        if pixels.mask is not None:
            return _masked(_step_painter(shadings[0], math.nan, hidden, work), hidden)
        nodata = shadings[0].band.rule
        single = nodata.matching(dtype) or [np.float32(np.nan)]
        if len(single) == 1 and not nodata.ranges:
            return _step_painter(shadings[0], float(single[0]), hidden, work)
    return lambda part, out: _paint_planes(part, shadings, hidden, out, work)


def _by_tables(pixels: Pixels) -> bool:
    return pixels.values.dtype.kind in "biu" and pixels.values.dtype.itemsize <= 2


def _masked(painter: Any, hidden: int) -> Any:
    """Return a painter that hides what a mask hides too."""

    def paint(part: Pixels, out: NDArray[np.uint32]) -> None:
        painter(part, out)
        shown = part.shown
        if not shown.all():
            out[~shown] = hidden

    return paint


def _table_painter(
    dtype: np.dtype[Any], shadings: Sequence[Shading], hidden: int, work: int
) -> Any:
    palette = shadings[0].palette
    if palette is not None:
        values = tables.index_values(dtype)
        shown = ~shadings[0].band.rule.invalid(values)
        words = np.where(shown, palette.words[shadings[0].codes(values)], np.uint32(hidden))
        find = tables.indexed_words.choose(work)
        return lambda part, out: find(tables.as_index(part.values[0]), words, out)
    made = [shading.table(dtype) for shading in shadings]
    if len(made) == 1:
        grey = (made[0] & 0xFF).astype(np.uint32) * 0x010101 | np.uint32(tables.OPAQUE)
        words = np.where(made[0] >> 8, grey, np.uint32(hidden)).astype(np.uint32)
        look_up = tables.indexed_words.choose(work)
        return lambda part, out: look_up(tables.as_index(part.values[0]), words, out)
    colour = tables.words.choose(work)

    def paint(part: Pixels, out: NDArray[np.uint32]) -> None:
        bands = [tables.as_index(band) for band in part.values]
        colour(bands, made, part.when == "all", hidden, out)

    return paint


def _step_painter(shading: Shading, nodata: float, hidden: int, work: int) -> Any:
    greys = np.arange(256, dtype=np.uint32) * 0x010101 | np.uint32(tables.OPAQUE)
    if shading.palette is not None:
        greys = np.resize(shading.palette.words, 256)
    step, stairs = steps.step_words.choose(work), shading.stairs
    return lambda part, out: step(part.values[0], stairs, greys, nodata, hidden, out)


def _paint_planes(
    part: Pixels, shadings: Sequence[Shading], hidden: int, out: NDArray[np.uint32], work: int
) -> None:
    """Paint any type, mask and alpha: levels per channel, then packed."""
    if shadings[0].palette is not None:
        _paint_codes(part, shadings[0].palette, shadings[0].codes(part.values[0]), hidden, out)
        return
    planes = [s.levels(values, work) for s, values in zip(shadings, part.values, strict=True)]
    cover = planes.pop() if len(planes) == 4 else None
    colors = planes * 3 if len(planes) == 1 else planes
    alpha = _coverage(part, cover, 255)
    steps.packed_words(colors, alpha.astype(np.uint8), out)
    out[alpha == 0] = 0
    out[~part.shown] = hidden


def _paint_codes(
    part: Pixels, palette: Palette, codes: NDArray[np.intp], hidden: int, out: NDArray[np.uint32]
) -> None:
    out[...] = palette.words[codes]
    if part.alpha is not None:
        bytes_of = out.view(np.uint8).reshape(*out.shape, 4)
        share = _coverage(part, None, 255) / 255
        bytes_of[..., 3] = np.floor(bytes_of[..., 3] * share + 0.5)
        out[bytes_of[..., 3] == 0] = 0
    out[~part.shown] = hidden


def draw_adjusted(
    pixels: Pixels, shadings: Sequence[Shading], look: Look, hidden: str | None, top: int
) -> NDArray[Any]:
    """Return (rows, columns, 4), 8 bits (``top`` 255) or 16 (65535), after a look's adjustments.

    What looks at no neighbours is drawn some rows at a time, which stay in the cache.
    """
    finders = _finders(pixels, shadings)
    if not look.pointwise:
        return _draw_adjusted(pixels, shadings, finders, look, hidden, top)
    rows, columns = pixels.values.shape[1:]
    out = np.empty((rows, columns, 4), np.uint8 if top == 255 else np.uint16)
    step = max(1, _ADJUSTED // max(1, columns))
    parts = [slice(start, start + step) for start in range(0, rows, step)]

    def paint(part: slice) -> None:
        some = pixels.cut((part, slice(None)))
        out[part] = _draw_adjusted(some, shadings, finders, look, hidden, top)

    in_parallel(parts, lambda: paint)
    return out


def _finders(pixels: Pixels, shadings: Sequence[Shading]) -> list[_FindT]:
    size = pixels.values[0].size
    return [shading.t_finder(pixels.values.dtype, size) for shading in shadings]


def _draw_adjusted(
    pixels: Pixels, shadings: Sequence[Shading], finders: Sequence[_FindT], look: Look,
    hidden: str | None, top: int,
) -> NDArray[Any]:  # fmt: skip
    dtype = np.uint8 if top == 255 else np.uint16
    done = _adjusted_planes(pixels, finders, look)
    cover = None
    if len(shadings) == 4:
        cover = np.nan_to_num(levels.level(finders[3](pixels.values[3]), top))
    out = np.empty((*pixels.values.shape[1:], 4), dtype)
    palette = shadings[0].palette
    if palette is not None:
        codes = adjusted_codes(done[0], pixels.values[0], shadings[0])
        out[...] = palette.colors(codes).astype(dtype) * (top // 255)
    else:
        for channel in range(3):
            out[..., channel] = levels.level(done[channel if len(done) == 3 else 0], top)
        out[..., 3] = top
    if pixels.alpha is not None or cover is not None:
        share = _coverage(pixels, cover, top) / top
        out[..., 3] = np.floor(out[..., 3] * share + 0.5)
    clear = out[..., 3] == 0
    if clear.any():
        out[clear] = 0
    if not pixels.shown.all():
        out[~pixels.shown] = _hidden(hidden).astype(dtype) * (top // 255)
    return out


def adjusted_planes(
    pixels: Pixels, shadings: Sequence[Shading], look: Look
) -> list[NDArray[np.float64]]:
    """Return t of the colour channels after all that a look adds."""
    return _adjusted_planes(pixels, _finders(pixels, shadings), look)


def _adjusted_planes(
    pixels: Pixels, finders: Sequence[_FindT], look: Look
) -> list[NDArray[np.float64]]:
    shown = np.array(pixels.shown)
    planes = [find(values) for find, values in zip(finders[:3], pixels.values, strict=False)]
    return adjusted(planes, shown, look)


def adjusted_codes(
    t: NDArray[np.float64], stored: NDArray[Any], shading: Shading
) -> NDArray[np.intp]:
    """Return the palette's codes of t that was adjusted; what lies beyond the limits stays so."""
    codes = shading.coded(t, physical(stored, shading.band, np.float64))
    return np.nan_to_num(codes, nan=0.0).astype(np.intp)


def _hidden(color: str | None) -> Rgba:
    return np.array([word_of(color)], np.uint32).view(np.uint8)


def _coverage(part: Pixels, cover: NDArray[Any] | None, top: int) -> NDArray[np.float64]:
    """Return 0...top: the file's alpha times the alpha channel."""
    share = part.coverage
    if share is None and cover is None:
        return np.broadcast_to(np.float64(top), part.values.shape[1:])
    alpha = np.full(part.values.shape[1:], float(top)) if share is None else share * top
    if cover is not None:
        alpha = alpha * (cover / float(top))
    return np.floor(alpha + 0.5)


def draw16(pixels: Pixels, shadings: Sequence[Shading], hidden: str | None) -> NDArray[np.uint16]:
    """Return (rows, columns, 4) uint16, each level from t itself; palettes have 8 bits."""
    if shadings[0].palette is not None:
        return draw(pixels, shadings, hidden).astype(np.uint16) * np.uint16(257)
    planes = [s.levels16(values) for s, values in zip(shadings, pixels.values, strict=True)]
    cover = planes.pop() if len(planes) == 4 else None
    out = np.empty((*pixels.values.shape[1:], 4), np.uint16)
    for channel in range(3):
        out[..., channel] = planes[channel if len(planes) == 3 else 0]
    out[..., 3] = _coverage(pixels, cover, 65535)
    out[out[..., 3] == 0] = 0
    out[~pixels.shown] = _hidden(hidden).astype(np.uint16) * np.uint16(257)
    return out


def class_places(stored: NDArray[Any], classes: Mapping[float, Class]) -> NDArray[np.int32]:
    """Return the place (from 0) of each number's class, in ascending order; -1 for none."""
    values = np.array(sorted(classes), np.float64)
    place = np.clip(np.searchsorted(values, stored), 0, len(values) - 1)
    return np.where(values[place] == stored, place, -1).astype(np.int32)


def draw_classes(pixels: Pixels, classes: Mapping[float, Class], hidden: str | None) -> Rgba:
    """Return the picture of one band of classes; what is of none is transparent."""
    colors = [word_of(classes[value][0]) for value in sorted(classes)]
    words = np.array([*colors, 0], np.uint32)  # place -1 is the last
    out = words[class_places(pixels.values[0], classes)]
    out[~pixels.shown] = word_of(hidden)
    return out.view(np.uint8).reshape(*out.shape, 4)
