"""The display plan: how a raster is shown, resolved once, and asked by all that show something.

::

    plan = resolve(source, look, window)      # bands, limits, curve, colours, what is invalid
    pixels = plan.read(source, window, size)
    plan.draw(pixels)                         # (rows, columns, 4), 8 or 16 bits
    plan.level(stored), plan.color(stored)    # of single numbers, exactly as they are drawn
    plan.counts(pixels), plan.legend()

Nothing else reads a look. A plan holds no pixels and no source: it is small, can be sent to another
process, and draws whatever has the same bands: tiles, slices, the frames of a sequence.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.fills import Fill, drawn_with, fills
from spectrane.display import drawing, legends
from spectrane.display.channels import shown_bands
from spectrane.display.kept_limits import unless_it_misses, with_kept_limits
from spectrane.display.limits import FoundLimits, fitted_curve, found_limits, rules_of
from spectrane.display.shading import (
    Palette,
    Scale,
    Shading,
    channel_names,
    known_scale,
    ranges_said,
)
from spectrane.engine.described import ruled
from spectrane.engine.reduced_copies import read_or_recalled
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.colors import Classes
from spectrane.model.curves import Curve, Linear
from spectrane.model.errors import LookError
from spectrane.model.frozen import FrozenMapping
from spectrane.model.geolocation import AS_STORED
from spectrane.model.limits import Auto, Limits, Symmetric
from spectrane.model.look import ADJUSTMENTS, FITTING, Look, look_of
from spectrane.model.physical import value_dtype
from spectrane.model.pixels import Pixels
from spectrane.model.resampling import MIXING
from spectrane.model.shortly import short_repr
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.uptake import measures_uptake
from spectrane.model.window import Window, extent, whole


@record(frozen=True)
class RenderPlan:
    """How stored numbers become colours, resolved: see ``resolve``.

    ``look`` is the look as it is carried out, ``bands`` the indices (from 0) of the bands shown and
    ``described`` what they mean. ``shadings`` has one entry per channel, and none where colours go
    by ``classes``. ``notes`` say what was chosen, ``warnings`` what deserves a second look.
    """

    look: Look
    bands: tuple[int, ...]
    described: tuple[Band, ...]
    dtype: np.dtype[Any]
    nodata_when: str
    alpha: str | None
    shadings: tuple[Shading, ...]
    categories: bool
    notes: tuple[str, ...] = ()
    warnings: tuple[str, ...] = ()

    __repr__ = short_repr

    @property
    def classes(self) -> Classes:
        """The classes that colours go by; empty where they go by limits."""
        return self.look.classes if not self.shadings else FrozenMapping()  # type: ignore[return-value]

    @property
    def scales(self) -> tuple[Scale, ...]:
        """How each channel is shown, to be told."""
        return tuple(known_scale(one) for one in self.shadings)

    @property
    def hidden(self) -> str | None:
        """The colour of invalid pixels: the look's, or its colour map's; None is transparent."""
        if self.look.nodata_color is not None or self.look.colormap is None:
            return self.look.nodata_color
        color: str | None = self.look.colormap.nodata
        return color

    @property
    def channels(self) -> tuple[str, ...]:
        """What the channels are called: grey; or red, green, blue, alpha."""
        return channel_names(len(self.shadings))

    def said(self) -> str:
        """Say in a few words how it is shown, and between which numbers: for captions."""
        if not self.shadings:
            return "classes"
        rules = [scale.limits for scale in self.scales if not scale.limits.startswith("fixed:")]
        parts = [*ranges_said(self.scales), *dict.fromkeys(rules), self.scales[0].curve]
        parts += [] if self.look.colormap is None else [self.look.colormap.name]
        changed = self.look.to_dict()
        parts += [f"{name} {changed[name]}" for name in ADJUSTMENTS if name in changed]
        return ", ".join(parts + (["inverted"] if self.scales[0].invert else []))

    def tell(self) -> None:
        """Warn of what deserves a second look."""
        for message in self.warnings:
            warn_caller(message)

    def on(self, bands: Sequence[int]) -> RenderPlan:
        """Return the plan for a source that has the same bands at other places."""
        return replace(self, bands=tuple(bands))

    def ready(self, source: Source) -> Source:
        """Return a source under the plan's word on what is invalid."""
        return ruled(source, self.nodata_when)

    def method(self, scales: Sequence[float]) -> str:
        """Return the kernel that draws pixels ``scales`` times as large along each axis.

        The look's, else ``area`` to shrink and ``nearest`` to enlarge; classes are never mixed.
        """
        shrinks = max(scales) > 1
        asked = self.look.resample
        if self.categories:
            unmixed = asked is not None and asked not in MIXING
            return str(asked) if unmixed else "majority" if shrinks else "nearest"
        return asked or ("area" if shrinks else "nearest")

    def read(
        self, source: Source, window: Window | None = None, size: tuple[int, ...] | None = None,
        method: str | None = None,
    ) -> Pixels:  # fmt: skip
        """Return the pixels to be drawn: the plan's bands, alpha not multiplied into them."""
        window = whole(source.shape) if window is None else window
        scales = [n / m for n, m in zip(extent(window), size or extent(window), strict=True)]
        kernel = method or self.method(scales)
        ready = self.ready(source)
        return self.straight(read_or_recalled(ready, self.bands, window, size, kernel))

    def straight(self, pixels: Pixels) -> Pixels:
        """Undo the multiplication by alpha that associated alpha brings with it."""
        share = pixels.coverage
        if self.alpha != "premultiplied" or share is None:
            return pixels
        values = pixels.values.astype(value_dtype(pixels.values.dtype)) / np.maximum(share, 1e-12)
        return Pixels(
            values.astype(value_dtype(pixels.values.dtype)), mask=pixels.mask, rules=pixels.rules,
            alpha=pixels.alpha, when=pixels.when,
        )  # fmt: skip

    def draw(self, pixels: Pixels, bits: int = 8) -> NDArray[Any]:
        """Return (rows, columns, 4) uint8 or uint16 (``bits`` 16) with straight alpha.

        ``pixels`` are what ``read`` returns: the bands shown, in order. 16 bits come from t itself,
        not from 8-bit levels; colours of maps and classes have 8.
        """
        top = 255 if bits == 8 else 65535
        if not self.shadings:
            rgba = drawing.draw_classes(pixels, self.classes, self.hidden)
            return rgba if bits == 8 else rgba.astype(np.uint16) * np.uint16(257)
        if self.look.adjusted:
            return drawing.draw_adjusted(pixels, self.shadings, self.look, self.hidden, top)
        paint = drawing.draw if bits == 8 else drawing.draw16
        return paint(pixels, self.shadings, self.hidden)

    def draw_again(self, pixels: Pixels, before: RenderPlan, picture: NDArray[Any]) -> NDArray[Any]:
        """Return what ``draw`` does, from the picture that another plan drew of the same pixels."""
        if any(one.look.adjusted or one.hidden for one in (self, before)):
            return self.draw(pixels)
        again = drawing.drawn_again(pixels, self.shadings, before.shadings, picture)
        return self.draw(pixels) if again is None else again

    def shown(self, pixels: Pixels) -> NDArray[np.bool_]:
        """Return (rows, columns): where pixels are to be seen, valid and not clear by channel 4."""
        if len(self.shadings) < 4:
            return pixels.shown
        cover = self.shadings[3].levels(pixels.values[3], pixels.values.size)
        return np.asarray(pixels.shown & (cover > 0))

    def levels(self, pixels: Pixels) -> NDArray[np.int32]:
        """Return (channels, rows, columns): the levels 0...255 of the colour channels as drawn.

        Under a colour map, its entry: -1 below its limits and their number above them where it has
        colours for those. By classes, the place (from 0) of the class, -1 for what is of none. What
        is invalid has a level too; ``shown`` tells it.
        """
        if not self.shadings:
            return drawing.class_places(pixels.values[:1], self.classes)
        colors, work = self.shadings[:3], pixels.values.size
        first = colors[0].palette
        if self.look.adjusted:
            planes = drawing.adjusted_planes(pixels, self.shadings, self.look)
            found = [np.floor(t * 255 + 0.5) for t in planes] if first is None else [
                drawing.adjusted_codes(planes[0], pixels.values[0], colors[0])]  # fmt: skip
        elif first is None:
            found = [s.levels(v, work) for s, v in zip(colors, pixels.values, strict=False)]
        else:
            found = [colors[0].codes(pixels.values[0])]
        below = 0 if first is None else int(first.ends)
        return np.stack([np.asarray(levels, np.int32) for levels in found]) - np.int32(below)

    def level(self, stored: Any) -> NDArray[np.int32]:
        """Return the levels of stored numbers: see ``levels``.

        ``stored`` is (channels, …), or of any shape where one band is shown; so is the answer, for
        the colour channels. Neighbours have no part in it: what sharpening and local contrast
        change is seen in a picture alone.
        """
        pixels, shape = self._alone(stored)
        found = self._without_neighbours().levels(pixels)
        return found.reshape(len(found), *shape) if len(self.bands) > 1 else found.reshape(shape)

    def color(self, stored: Any) -> NDArray[np.uint8]:
        """Return the colours (…, 4) of stored numbers as they are drawn; see ``level``."""
        pixels, shape = self._alone(stored)
        return self._without_neighbours().draw(pixels).reshape(*shape, 4)

    def _without_neighbours(self) -> RenderPlan:
        return replace(self, look=self.look.without_neighbours())

    def _alone(self, stored: Any) -> tuple[Pixels, tuple[int, ...]]:
        """Return stored numbers as pixels of one row, and the shape they came in."""
        values = np.asarray(stored)
        if len(self.bands) == 1:
            values = values[np.newaxis]
        elif not values.ndim or len(values) != len(self.bands):
            raise LookError(f"expected a number for each of {len(self.bands)} channels, "
                            f"not an array of {values.shape}")  # fmt: skip
        if values.dtype != self.dtype:
            with np.errstate(invalid="ignore", over="ignore"):
                cast = values.astype(self.dtype)
            same = (cast == values) | (values != values)
            values = cast if same.all() else values
        rules = [band.rule for band in self.described]
        flat = values.reshape(len(self.bands), 1, -1)
        return Pixels(flat, rules=rules, when=self.nodata_when), values.shape[1:]

    def counts(self, values: Pixels | Any) -> list[NDArray[np.int64]]:
        """Return how often each level occurs among the pixels shown, per colour channel.

        An array of 256, of the entries of a colour map, or of the classes; ``values`` are pixels,
        or stored numbers as for ``level``.
        """
        pixels = values if isinstance(values, Pixels) else self._alone(values)[0]
        shown = self.shown(pixels)
        inside = [level[shown & (level >= 0) & (level < self.steps)]
                  for level in self.levels(pixels)]  # fmt: skip
        return [np.bincount(levels, minlength=self.steps) for levels in inside]

    @property
    def steps(self) -> int:
        """How many levels there are: 256, a colour map's entries, or the classes."""
        if not self.shadings:
            return len(self.classes)
        palette = self.shadings[0].palette
        return 256 if palette is None else palette.entries

    def legend(self, steps: int = 256) -> legends.Legend:
        """Return what a legend says: a bar with ``steps`` colours, the channels, or the classes."""
        return legends.legend_of(self.shadings, self.classes, self.look, steps)


def resolve(
    source: Source, look: Look | None = None, window: Window | None = None, *,
    bands: Sequence[int] | None = None,
) -> RenderPlan:  # fmt: skip
    """Resolve how a source is shown: the only place where a look is read.

    ``window`` is the view, for limits that see it (None: everything). ``bands`` (indices from 0)
    are shown instead of the look's channels. Raises LookError, BandError.

    >>> from spectrane.engine.memory import ArraySource
    >>> source = ArraySource(np.array([[[0, 50, 100]]], np.uint8))
    >>> plan = resolve(source, Look(limits=(0, 100)))
    >>> plan.level([0, 50, 100]).tolist(), plan.color(50).tolist()
    ([0, 128, 255], [128, 128, 128, 255])
    """
    window = source.checked(window)
    told = _Told([], [])
    look, kept = with_kept_limits(look_of(look) or source.look or Look(), source.look)
    source = ruled(source, look.nodata_when)
    shown = list(bands) if bands is not None else shown_bands(source, look, told.warnings)
    told.warnings += [AS_STORED] if source.geolocation is not None else []
    if look.colormap == FITTING:
        from spectrane.display.proposals import fitting_colormap  # only who asks pays for it

        look, note = fitting_colormap(source, look, shown)
        told.notes += [note] if note else []
    look = with_classes(source, look, shown)
    if (look.classes or not source.mixable) and look.resample in MIXING:
        told.warnings.append(f"resample {look.resample} mixes neighbours, and classes cannot be "
                             "interpolated: majority or nearest is used")  # fmt: skip
    if look.classes:
        if idle := _said_in_vain(look):
            told.warnings.append(
                f"{', '.join(idle)}: without effect on classes, which have their "
                "own colours; limits, or a colour map, show the numbers"
            )
        return _finished(source, look, shown, (), told)
    if kept is not None:
        look = unless_it_misses(source, look, shown, window, told.warnings)
    suspects = fills(source, shown)
    auto = all(isinstance(rule, Auto) for rule in look.limits) and Auto.stretches(
        source.stored_type
    )
    told.warnings += drawn_with(source, suspects, left_out=auto)
    left_out = suspects if auto else ()
    look = _anchored(look, shown)
    shadings = _shadings(source, look, shown, window, left_out, told)
    return _finished(source, look, shown, shadings, told)


_OF_NUMBERS = ("curve", "invert", "local_contrast", "sharpen", "brightness", "contrast",
               "saturation")  # fmt: skip


def _said_in_vain(look: Look) -> list[str]:
    """Return what a look says that has no part in classes."""
    plain = Look()
    said = [name for name in _OF_NUMBERS if getattr(look, name) != getattr(plain, name)]
    return [name for name in said if getattr(look, name) is not False]


@dataclass
class _Told:
    """What is to be told of a plan."""

    notes: list[str]
    warnings: list[str]


def _finished(
    source: Source, look: Look, bands: Sequence[int], shadings: tuple[Shading, ...], told: _Told
) -> RenderPlan:
    return RenderPlan(
        look, tuple(bands), tuple(source.bands[band] for band in bands), source.dtype,
        source.nodata_when, source.alpha, shadings,
        not source.mixable if shadings else True, tuple(told.notes), tuple(told.warnings),
    )  # fmt: skip


def with_classes(source: Source, look: Look, bands: Sequence[int]) -> Look:
    """Return the look with the classes that apply: its own, or the file's where nothing else is
    asked of the band.
    """
    own = source.look.classes if source.look else None
    asked = look.limits_named or look.colormap is not None
    if look.classes or asked or len(bands) != 1 or not own:
        return look if len(bands) == 1 else replace(look, classes={})
    return replace(look, classes=own)


def _anchored(look: Look, bands: Sequence[int]) -> Look:
    """Let ``auto`` limits put a colour map's own zero at 0."""
    anchored = len(bands) == 1 and look.colormap is not None and look.colormap.anchor is not None
    if anchored and isinstance(look.limits[0], Auto):
        return replace(look, limits=Symmetric(99.0))
    return look


def _shadings(
    source: Source, look: Look, bands: Sequence[int], window: Window, left_out: Sequence[Fill],
    told: _Told,
) -> tuple[Shading, ...]:  # fmt: skip
    """Return how each channel goes from stored numbers to levels: limits, curve, colours."""
    rules = rules_of(look, len(bands), source)
    limits = found_limits(source, bands, rules, look, window, left_out)
    own = source.look.invert if source.look is not None else None  # white as zero
    if own is None and len(bands) == 1 and look.colormap is None:
        own = measures_uptake(source)  # grey shows it dark on white
    invert = bool(own if look.invert is None else look.invert)
    made = []
    for channel, (index, rule, found) in enumerate(zip(bands, rules, limits, strict=True)):
        curve: Curve = Linear()
        if channel < 3:  # alpha, the fourth, is shown as it is
            curve = fitted_curve(look.curve, source, index, look, window, found, left_out)
        shading = _shading(source.bands[index], rule, found, curve, invert and channel < 3)
        made.append(shading)
        _tell_one_value(shading, told)
    if len(made) == 1:
        made = [_coloured(made[0], look, told)]
    return tuple(made)


def _shading(band: Band, rule: Limits, found: FoundLimits, curve: Curve, invert: bool) -> Shading:
    formula = rule.formula
    called = str(curve) if formula is None else formula.way
    scale = Scale(band.name, found.low, found.high, called, invert, band.unit, found.exact,
                  rule.told)  # fmt: skip
    return Shading(band, scale, rule, curve if formula is None else Linear())


def _coloured(shading: Shading, look: Look, told: _Told) -> Shading:
    """Return a shading in the colours of the look's map, and tell where its zero does not lie."""
    if look.colormap is None:
        return shading
    colored = replace(shading, palette=Palette.of(look.colormap, shading.falling))
    anchor, entries = look.colormap.anchor, len(look.colormap.entries)
    if anchor is None or not np.isfinite(shading.scale.low + shading.scale.high):
        return colored
    at_zero = float(shading.t_at(np.zeros(1))[0])
    if abs(at_zero - anchor) > 0.51 / entries:
        unit = f" {shading.scale.unit}" if shading.scale.unit not in (None, "1") else ""
        told.warnings.append(
            f"{shading.scale.band}: the middle of the colour map {look.colormap.name}, meant for "
            f"0, lies at {_value_at(shading, anchor):.4g}{unit}; limits symmetric and a "
            "linear curve put it at 0"
        )
    return colored


def _value_at(shading: Shading, t: float) -> float:
    """Return the value that is drawn at t, by bisection between the limits."""
    low, high = shading.scale.low, shading.scale.high
    rising = float(shading.t_at(np.array([high]))[0]) >= t
    for _ in range(60):
        middle = (low + high) / 2
        if (float(shading.t_at(np.array([middle]))[0]) < t) == rising:
            low = middle
        else:
            high = middle
    return (low + high) / 2


def _tell_one_value(shading: Shading, told: _Told) -> None:
    scale = shading.scale
    if scale.low == scale.high and shading.formula is None:  # a window of width 1 is a step
        told.warnings.append(
            f"{scale.band}: low and high limit are both {scale.low:.6g}, so the picture only tells "
            "below, at and above; give fixed limits to see more"
        )


def kept_range(source: Source) -> tuple[float, float] | None:
    """Return low and high that are kept with a file, in physical values; None where none are."""
    look = source.look
    if look is None or not look.limits_named or look.limits[0].reads:
        return None
    scale = resolve(source, Look(limits=[look.limits[0]], curve=look.curve), bands=[0]).scales
    return (scale[0].low, scale[0].high) if scale else None
