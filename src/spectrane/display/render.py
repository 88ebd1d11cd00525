"""Rendering: one raster, one look, one picture."""

from __future__ import annotations

import os
import warnings
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.channels import shown_bands
from spectrane.display.drawing import (
    Rgba,
    draw,
    draw16,
    draw_adjusted,
    draw_classes,
    word_of,
)
from spectrane.display.limits import equaliser, find_limits, settings_of, type_range
from spectrane.display.picture import Picture
from spectrane.display.shading import Palette, Scale, Shading, curve_of, formula_of
from spectrane.engine.described import Described
from spectrane.kernels import curves
from spectrane.kernels.ranks import percentiles
from spectrane.model.errors import DataWarning
from spectrane.model.look import Look, parse_curve
from spectrane.model.physical import value_dtype
from spectrane.model.pixels import Pixels
from spectrane.model.source import Source, check_answer
from spectrane.model.view import View, fitted
from spectrane.model.window import Window, extent
from spectrane.spatial.turned import upright

_JUDGED = 100_000
CUT, SATURATED = 0.2, 0.02
DARK, BRIGHT, NARROW = 0.05, 0.95, 0.1
"""An unstretched picture with such a mean level, or such a share of its type used, is warned of."""


def render(
    source: Source,
    look: Look | None = None,
    *,
    view: View | None = None,
    size: tuple[int, int] | None = None,
) -> Picture:
    """Draw a source as a look says, and the data stay as they are.

    ``size`` is (rows, columns): the picture fits inside without being stretched, and has it
    exactly where the proportions agree; None draws one picture pixel per raster pixel, up to
    2048. Warns (DataWarning) where the picture is likely to mislead. Raises BandError,
    LookError, GridMismatch.
    """
    source = upright(source)
    view = view or View()
    window = view.window(source.grid)
    shape = fitted(window, size or view.size)
    check_answer(1, shape, np.dtype(np.uint32))
    ready = settled(source, look, window)
    if ready.classes is not None:
        return _render_classes(ready.source, ready.classes, ready.bands, window, shape)
    picture = _render_shades(ready.source, ready.look, ready.bands, window, shape)
    return picture if ready.told is None else replace(picture, notes=(ready.told,))


@dataclass(frozen=True)
class Settled:
    """A look as it will be carried out: on which source and bands, and by classes or shades."""

    source: Source
    look: Look
    bands: list[int]
    classes: Look | None
    told: str | None


def settled(source: Source, look: Look | None, window: Window) -> Settled:
    """Settle a look: what is kept with the file, its colour map, its no-data, its classes."""
    look, kept = _with_kept_limits(look or source.look or Look(), source.look)
    if look.nodata_when not in (None, source.nodata_when):
        source = Described(source, source.bands, look.nodata_when)
    bands = shown_bands(source, look)
    told = None
    if look.colormap == "auto":
        from spectrane.display.proposals import settled_colormap  # only who asks pays for it

        look, told = settled_colormap(source, look, bands)
    classes = classes_shown(source, look, bands)
    if classes.classes:
        return Settled(source, look, bands, classes, told)
    if kept is not None:
        look = _unless_it_misses(source, look, bands, window, kept)
    return Settled(source, look, bands, None, told)


def _with_kept_limits(look: Look, own: Look | None) -> tuple[Look, Look | None]:
    """Let ``auto`` mean the display range kept with the file; answer it where it did."""
    asked = look.limits[0].kind != "auto"
    if own is None or own.limits[0].kind == "auto" or (asked and look.limits != own.limits):
        return look, None
    if not asked and len(own.limits) > 1 and look.channels not in (None, own.channels):
        return look, None  # they are those of other channels
    return replace(look, limits=own.limits), own


def _unless_it_misses(
    source: Source, look: Look, bands: Sequence[int], window: Window, kept: Look
) -> Look:
    """Return the look, or ``auto`` without the kept range where that shows none of the data."""
    if len(look.limits) not in (1, len(bands)):
        return look
    settings = settings_of(look, len(bands), source)
    if any(one.kind not in ("fixed", "voi", "window") for one in settings):
        return look
    ends = find_limits(source, bands, settings, look, window)
    size = fitted(window, (64, 64))
    pixels = source.read(bands, window, size, "nearest")
    for channel, (low, high, _) in enumerate(ends):
        values = _valid_of(pixels, channel)
        band = source.bands[bands[channel]]
        physical = values * band.scale + band.offset
        low, high = min(low, high), max(low, high)
        if not values.size or (low <= physical.max() and physical.min() <= high):
            return look
    _warn(f"the display range kept with the file ({look.limits[0]}) misses the data altogether "
          "and is passed over; keep a better one with: spectrane amend --limits")  # fmt: skip
    return replace(look, limits="percentile:1,99")


def classes_shown(source: Source, look: Look, bands: Sequence[int]) -> Look:
    """Return the look with the classes that apply: its own, or the file's where nothing else is
    asked of the band.
    """
    own = source.look.classes if source.look else {}
    asked = look.limits[0].kind != "auto"
    if look.classes or asked or len(bands) != 1 or not own:
        return look if len(bands) == 1 else replace(look, classes={})
    return replace(look, classes=own)


def resampling(look: Look, window: Window, shape: Sequence[int], categories: bool) -> str:
    """Return the kernel that shows a window at a size: the look's, else area or nearest."""
    if look.resample is not None:
        return look.resample
    if any(n > m for n, m in zip(extent(window), shape, strict=True)):
        return "majority" if categories else "area"
    return "nearest"


def _render_classes(
    source: Source, look: Look, bands: list[int], window: Window, shape: tuple[int, int]
) -> Picture:
    if look.resample not in (None, "nearest", "majority"):
        _warn(f"resample {look.resample} mixes neighbours, and classes have no between: majority "
              "or nearest is used")  # fmt: skip
        look = replace(look, resample=None)
    pixels = source.read(bands, window, shape, resampling(look, window, shape, True))
    rgba, unlisted = draw_classes(pixels, look.classes, look.nodata_color)
    if unlisted:
        _warn(f"{unlisted} pixels are of no class that has a colour and stay transparent")

    def again() -> NDArray[np.uint16]:
        return picture.rgba.astype(np.uint16) * 257

    picture = _finished(source, rgba, (), window, shape, again)
    return picture


def _render_shades(
    source: Source, look: Look, bands: list[int], window: Window, shape: tuple[int, int]
) -> Picture:
    shadings = shadings_of(source, look, bands, window)
    method = resampling(look, window, shape, source.categories)
    pixels = straight(source.read(bands, window, shape, method), source.alpha)
    rgba = drawn(pixels, shadings, look)
    _warn_of_misleading(source, pixels, shadings, rgba)
    scales = tuple(shading.scale for shading in shadings)
    turned = source.grid.cropped(window).flips()

    def again() -> NDArray[np.uint16]:
        if look.adjusted:
            return _turned(draw_adjusted(pixels, shadings, look, 65535), turned)
        return _turned(draw16(pixels, shadings, hidden_color(look)), turned)

    return _finished(source, rgba, scales, window, shape, again)


def shadings_of(source: Source, look: Look, bands: Sequence[int], window: Window) -> list[Shading]:
    """Return how each channel goes from stored numbers to levels: limits, curve, colours."""
    settings = settings_of(look, len(bands), source)
    limits = find_limits(source, bands, settings, look, window)
    curve = parse_curve(look.curve)
    palette = palette_of(look) if len(bands) == 1 and look.colormap is not None else None
    own = source.look.invert if source.look is not None else None  # white as zero
    shadings = []
    for channel, (index, setting, found) in enumerate(zip(bands, settings, limits, strict=True)):
        band, is_alpha = source.bands[index], channel == 3
        invert = bool(own if look.invert is None else look.invert) and not is_alpha
        called = str(curve)
        way: curves.Curve = curves.linear
        formula: curves.Curve | None = None
        if is_alpha:
            called = "linear"  # alpha is shown as it is
        elif setting.kind == "voi":
            called, formula = formula_of(source.windows[int(setting.parameters[0])])
        elif curve.kind == "equalise":
            way = equaliser(source, index, look, window, found[0], found[1])
        else:
            way = curve_of(curve)
        scale = Scale(band.name, found[0], found[1], called, invert, band.unit, found[2],
                      str(setting))  # fmt: skip
        ts = curve.parameters[1::2] if curve.kind == "points" else ()
        monotone = list(ts) in (sorted(ts), sorted(ts, reverse=True)) and called != "table"
        words = palette
        if palette is not None and palette.ends and invert != (found[0] > found[1]):
            words = palette.turned()
        shadings.append(Shading(band, scale, way, words, monotone, curve.kind == "equalise",
                                formula))  # fmt: skip
    return shadings


def palette_of(look: Look) -> Palette:
    """Return a look's colour map as picture words, with colours for what lies beyond."""
    from spectrane.display.colormaps import colormap_of

    chosen = colormap_of(look.colormap)
    words = np.ascontiguousarray(chosen.entries).view(np.uint32).ravel()
    if chosen.under is None and chosen.over is None:
        return Palette(words)
    under = words[0] if chosen.under is None else np.uint32(word_of(chosen.under))
    over = words[-1] if chosen.over is None else np.uint32(word_of(chosen.over))
    return Palette(np.concatenate([[under], words, [over]]).astype(np.uint32), ends=True)


def hidden_color(look: Look) -> str | None:
    """Return the colour of invalid pixels: the look's, or its colour map's."""
    if look.nodata_color is not None or look.colormap is None:
        return look.nodata_color
    from spectrane.display.colormaps import colormap_of

    return colormap_of(look.colormap).nodata


def drawn(pixels: Pixels, shadings: Sequence[Shading], look: Look) -> Rgba:
    """Return a picture of pixels, by a look's shadings and adjustments."""
    if look.adjusted:
        return np.asarray(draw_adjusted(pixels, shadings, look, 255))
    return draw(pixels, shadings, hidden_color(look))


def straight(pixels: Pixels, alpha: str | None) -> Pixels:
    """Undo the multiplication by alpha that associated alpha brings with it."""
    if alpha != "premultiplied" or pixels.alpha is None:
        return pixels
    full = 1.0 if pixels.alpha.dtype.kind == "f" else float(np.iinfo(pixels.alpha.dtype).max)
    share = np.maximum(pixels.alpha / full, 1e-12)
    values = pixels.values.astype(value_dtype(pixels.values.dtype)) / share
    return Pixels(
        values.astype(value_dtype(pixels.values.dtype)), mask=pixels.mask, rules=pixels.rules,
        alpha=pixels.alpha, when=pixels.when,
    )  # fmt: skip


def _finished(
    source: Source, rgba: Rgba, scales: tuple[Scale, ...], window: Window,
    shape: tuple[int, int], again: Callable[[], NDArray[np.uint16]],
) -> Picture:  # fmt: skip
    part = source.grid.cropped(window)
    grid = part.resized(shape).upright()
    name = os.path.basename(source.name) or "an array in memory"
    return Picture(_turned(rgba, part.flips()), grid, scales, name, again)


def _turned(rgba: NDArray[Any], flips: tuple[bool, bool]) -> NDArray[Any]:
    rows, columns = (slice(None, None, -1 if flip else 1) for flip in flips)
    return rgba[rows, columns]


def _warn(message: str) -> None:
    warnings.warn(message, DataWarning, stacklevel=4)


def _warn_of_misleading(
    source: Source, pixels: Pixels, shadings: Sequence[Shading], rgba: Rgba
) -> None:
    """Warn where nothing is to be seen, or an unstretched picture is nearly black or white."""
    # A large picture is judged by every n-th pixel: a warning must not cost more than drawing.
    step = max(1, int((rgba[..., 0].size / _JUDGED) ** 0.5))
    if step > 1:
        every = slice(None, None, step)
        pixels, rgba = pixels.cut((every, every)), rgba[every, every]
    shown = rgba[..., 3] > 0
    if not shown.any():
        _warn("no valid pixel in the area shown: the picture is transparent; check the no-data "
              "value and the area")  # fmt: skip
        return
    colors = shadings[:3]
    _warn_of_cut(source, pixels, colors)
    unstretched = [s for s in colors if s.scale.limits == "type"]
    if len(unstretched) < len(colors):
        return
    mean = float(rgba[..., :3][shown].mean()) / 255
    used = max(_used_share(source, pixels, k) for k in range(len(colors)))
    if DARK <= mean <= BRIGHT and used >= NARROW:
        return
    tries = "; ".join(_suggestion(pixels, k, s) for k, s in enumerate(colors))
    what = "nearly black" if mean < DARK else "nearly white" if mean > BRIGHT else "flat"
    _warn(
        f"the picture is {what} (mean level {mean:.0%}): the limits are the type's whole range, "
        f"of which the data use {used:.0%}; try limits percentile:2,98 ({tries})"
    )


def _warn_of_cut(source: Source, pixels: Pixels, shadings: Sequence[Shading]) -> None:
    """Warn where limits cut off much, or a channel stands at the end of its type."""
    for channel, shading in enumerate(shadings):
        values = _valid_of(pixels, channel)
        if not values.size:
            continue
        low, high = sorted((shading.scale.low, shading.scale.high))
        physical = shading.physical(values)
        cut = float(((physical < low) | (physical > high)).mean())
        windowed = shading.scale.limits.startswith("window")  # to cut off is what they are for
        if cut > CUT and low < high and not windowed:
            _warn(f"{shading.band.name}: the limits {low:.6g} to {high:.6g} cut off {cut:.0%} of "
                  "the pixels shown; try percentile:2,98")  # fmt: skip
        if source.dtype.kind in "iu" and source.dtype.itemsize > 1:
            full = float((values == np.iinfo(source.dtype).max).mean())
            if full > SATURATED:
                _warn(f"{shading.band.name}: {full:.0%} of the pixels shown are at the type's "
                      "greatest number: the channel is saturated")  # fmt: skip


def _valid_of(pixels: Pixels, channel: int) -> NDArray[np.float64]:
    valid = np.broadcast_to(pixels.valid, pixels.values.shape)[channel]
    values = pixels.values[channel][valid].astype(np.float64)
    return np.asarray(values[np.isfinite(values)])


def _used_share(source: Source, pixels: Pixels, channel: int) -> float:
    values = _valid_of(pixels, channel)
    low, high = type_range(source.dtype)
    return float(values.max() - values.min()) / (high - low) if values.size else 0.0


def _suggestion(pixels: Pixels, channel: int, shading: Shading) -> str:
    values = _valid_of(pixels, channel)
    if not values.size:
        return f"{shading.band.name}: no values"
    ends = [v * shading.band.scale + shading.band.offset for v in percentiles(values, (2, 98))]
    return f"{shading.band.name} {min(ends):.5g} to {max(ends):.5g}"
