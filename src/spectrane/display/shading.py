"""One channel's way from stored numbers to levels, in the form its type is fastest in."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import cached_property, lru_cache
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.kernels import levels, steps, tables
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.colormaps import Colormap
from spectrane.model.colors import parse_color
from spectrane.model.curves import Curve, Linear, Shares
from spectrane.model.display_window import DisplayWindow
from spectrane.model.errors import LookError
from spectrane.model.limits import Limits
from spectrane.model.physical import physical

if TYPE_CHECKING:
    from matplotlib.colors import Normalize

_ROWS = 64
_COLORS = ("red", "green", "blue", "alpha")


def channel_names(count: int) -> tuple[str, ...]:
    """Return what so many channels are called: grey alone; else red, green, blue, alpha.

    >>> channel_names(1), channel_names(3)
    (('grey',), ('red', 'green', 'blue'))
    """
    return ("grey",) if count == 1 else _COLORS[:count]


@record(frozen=True)
class Scale:
    """How one channel is shown: its band and unit, the limits in physical values, the curve.

    ``limits`` is the rule the limits came from; ``exact`` is False where they were found from a
    part of the pixels.

    >>> str(Scale("nir", 0.0, 0.4, "linear", False, "1", True, "fixed:0,0.4"))
    'nir 0 to 0.4 (fixed:0,0.4)'
    """

    band: str
    low: float
    high: float
    curve: str
    invert: bool
    unit: str | None
    exact: bool
    limits: str

    def to_norm(self) -> Normalize:
        """Return a Matplotlib norm with these limits and this curve, for physical values.

        With ``colormap.to_matplotlib()`` it gives the colours of the picture; its inverse puts
        ticks on colour bars. Raises LookError for a scale that was made by hand.

        >>> import numpy as np, spectrane as sp
        >>> look = sp.Look(limits=(0, 16), curve="sqrt")
        >>> norm = sp.render(sp.from_array([[0.0, 4.0]]), look).scales[0].to_norm()
        >>> float(norm(4.0)), norm.vmax
        (0.5, 16.0)
        """
        from spectrane.exchange.norms import ScaleNorm

        made: Shading | None = getattr(self, "_shading", None)
        if made is None:
            raise LookError("to_norm: this scale is of no picture; take one of picture.scales")
        ends = made.palette is not None and made.palette.ends
        return ScaleNorm(self.low, self.high, made.t_at, made.beyond, ends=ends)

    def __str__(self) -> str:
        """Say it in a line."""
        unit = f" {self.unit}" if self.unit not in (None, "1") else ""
        about = "" if self.exact else ", about"
        inverted = ", inverted" if self.invert else ""
        return (
            f"{self.band} {self.low:.6g} to {self.high:.6g}{unit} ({self.limits}{about}{inverted})"
        )


def known_scale(shading: Shading) -> Scale:
    """Return a shading's scale, which knows what carries it out: no part of what it says."""
    made = replace(shading.scale)
    object.__setattr__(made, "_shading", shading)
    return made


@record(frozen=True, eq=False)
class Palette:
    """The colours of one channel as picture words: one per entry of a colour map.

    With ``ends``, a colour for what lies below the limits stands before them, and one for what
    lies above after them; a falling scale turns the two round.
    """

    words: NDArray[np.uint32]
    ends: bool = False

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Palette):
            return NotImplemented
        return self.ends == other.ends and np.array_equal(self.words, other.words)

    def __hash__(self) -> int:
        return hash((self.ends, self.words.tobytes()))

    @property
    def entries(self) -> int:
        """Colours between the limits."""
        return len(self.words) - 2 * self.ends

    @property
    def last(self) -> int:
        """The greatest code."""
        return len(self.words) - 1

    def codes(self, t: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return floor(t n), at most n - 1, moved past the colour for what lies below."""
        return np.minimum(np.floor(t * self.entries), self.entries - 1) + float(self.ends)

    def colors(self, codes: NDArray[Any]) -> NDArray[np.uint8]:
        """Return the colours (…, 4) of codes."""
        words = self.words[np.nan_to_num(codes).astype(np.intp)]
        return np.asarray(words[..., np.newaxis].view(np.uint8))

    @classmethod
    def of(cls, chosen: Colormap, falling: bool) -> Palette:
        """Return a colour map as picture words; ``falling`` where levels fall as values rise."""
        entries = np.where(chosen.entries[:, 3:] > 0, chosen.entries, np.uint8(0))
        words = np.ascontiguousarray(entries).view(np.uint32).ravel()
        if chosen.under is None and chosen.over is None:
            return cls(words)
        under = words[0] if chosen.under is None else np.uint32(word_of(chosen.under))
        over = words[-1] if chosen.over is None else np.uint32(word_of(chosen.over))
        first, last = (over, under) if falling else (under, over)
        return cls(np.concatenate([[first], words, [last]]).astype(np.uint32), ends=True)


def word_of(color: str | None) -> int:
    """Return a colour as a picture word; None is transparent, as is any colour of alpha 0.

    >>> hex(word_of("#102030"))
    '0xff302010'
    """
    if color is None:
        return 0
    red, green, blue, alpha = parse_color(color)
    if alpha == 0:
        return 0  # what is clear has no colour: layers and pictures agree
    return red | green << 8 | blue << 16 | alpha << 24


@record(frozen=True)
class Shading:
    """A band's numbers to levels: physical value, limits, curve, inversion.

    The float64 definition is ``t``; ``levels`` gives exactly its levels for integers and
    float32, by tables that are made once. ``rule`` is where the limits come from; a file's own
    window brings a formula of physical values, in the place of limits and curve.
    """

    band: Band
    scale: Scale
    rule: Limits
    curve: Curve = Linear()
    palette: Palette | None = None

    @property
    def formula(self) -> DisplayWindow | None:
        """The function of physical values that stands instead of limits and curve."""
        return self.rule.formula

    def t(self, stored: NDArray[Any]) -> NDArray[np.float64]:
        """Return t in 0...1 of stored numbers in float64; NaN stays NaN."""
        return self.t_at(physical(stored, self.band, np.float64))

    def t_finder(self, dtype: np.dtype[Any], work: int) -> Callable[[NDArray[Any]], Any]:
        """Return what finds t of stored numbers: by a table where there are more pixels than
        numbers of their type.
        """
        if dtype.kind not in "biu" or 1 << (8 * dtype.itemsize) > work:
            return self.t
        table = self.t(tables.index_values(dtype))
        return lambda stored: table.take(tables.as_index(stored))

    def t_at(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return t in 0...1 of physical values."""
        t = self.way(values)
        return 1.0 - t if self.scale.invert else t

    def way(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return t of physical values before it is inverted."""
        if self.formula is not None:
            return self.formula.t(values)
        low, high = self.scale.low, self.scale.high
        t = self.curve(levels.relative_position(values, low, high))
        if not isinstance(self.curve, Shares):
            return t
        # Equalised, what lies below the limits is 0, whatever stands at low.
        return np.where(values < low if low <= high else values > low, 0.0, t)

    def beyond(self, values: NDArray[np.float64]) -> NDArray[np.int8]:
        """Return -1 where physical values lie below the limits, 1 above, 0 between (or NaN)."""
        low, high = sorted((self.scale.low, self.scale.high))
        return (values > high).astype(np.int8) - (values < low).astype(np.int8)

    @property
    def falling(self) -> bool:
        """Whether t falls as values rise."""
        return self.scale.invert != (self.scale.low > self.scale.high)

    def level_at(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the level 0...255, or the palette's code, of physical values; NaN stays NaN."""
        return self.coded(self.t_at(values), values)

    def coded(self, t: NDArray[np.float64], values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the level, or the palette's code, of t; ``values`` are those it came from."""
        if self.palette is None:
            return levels.level(t, 255)
        codes = self.palette.codes(t)
        if not self.palette.ends:
            return codes
        first, last = (self.palette.last, 0) if self.falling else (0, self.palette.last)
        where = self.beyond(values)
        return np.where(where < 0, first, np.where(where > 0, last, codes))

    def _level(self, stored: NDArray[Any]) -> NDArray[np.float64]:
        return self.level_at(physical(stored, self.band, np.float64))

    @property
    def monotone(self) -> bool:
        """Whether t never turns round as values rise."""
        return self.curve.monotone if self.formula is None else self.formula.monotone

    @property
    def stepped(self) -> bool:
        """Whether levels are a staircase of at most 256, rising or falling.

        Colours beyond the limits stand at their own ends, whichever way the curve runs.
        """
        if self.palette is None or not self.monotone:
            return self.monotone
        if not self.palette.ends:
            return self.palette.last <= 255
        ends = np.array(sorted((self.scale.low, self.scale.high)))
        first, last = self.t_at(ends).tolist()
        astray = first < last if self.falling else first > last
        return self.palette.last <= 255 and not astray

    def codes(self, stored: NDArray[Any]) -> NDArray[np.intp]:
        """Return the level or palette's code of each number; NaN gets the first."""
        return np.nan_to_num(self._level(stored), nan=0.0).astype(np.intp)

    @cached_property
    def _tables(self) -> dict[np.dtype[Any], NDArray[np.uint16]]:
        return {}

    def table(self, dtype: np.dtype[Any]) -> NDArray[np.uint16]:
        """Return ``level | valid << 8`` for each index of an 8- or 16-bit type; not to be changed.

        Channels of equal limits share one, and while one channel is changed those of the others
        are at hand.
        """
        if dtype not in self._tables:
            band, scale = self.band, self.scale
            alike = replace(
                self, band=Band("", scale=band.scale, offset=band.offset, nodata=band.nodata),
                scale=replace(scale, band="", unit=None, limits="", exact=True),
            )  # fmt: skip
            try:
                self._tables[dtype] = _table_at_hand(alike, dtype)
            except TypeError:  # what holds arrays is not compared
                self._tables[dtype] = self._made_table(dtype)
        return self._tables[dtype]

    def _made_table(self, dtype: np.dtype[Any]) -> NDArray[np.uint16]:
        values = tables.index_values(dtype)
        valid = ~self.band.rule.invalid(values)
        levels = self._level_of_each(physical(values, self.band, np.float64))
        return levels.astype(np.uint16) | (valid.astype(np.uint16) << np.uint16(8))

    def _level_of_each(self, values: NDArray[np.float64]) -> NDArray[np.float64]:
        """Return the levels of many physical values, of which few lie between the limits.

        What lies below both has one level, what lies above both another. Without any valid value
        the limits are NaN, and so are the levels, which are 0 then.
        """

        def level(some: NDArray[np.float64]) -> NDArray[np.float64]:
            return np.nan_to_num(self.level_at(some), nan=0.0)

        low, high = sorted((self.scale.low, self.scale.high))
        finite = math.isfinite(high - low + self.band.scale + self.band.offset)
        if self.formula is not None or not finite:
            return level(values)
        below, above = level(np.array([low - 1 - abs(low), high + 1 + abs(high)]))
        found: NDArray[np.float64] = np.where(values < low, below, above)
        inside = (values >= low) & (values <= high)
        found[inside] = level(values[inside])
        return found

    @cached_property
    def stairs(self) -> steps.Staircase:
        """The steps of the definition over float32 numbers."""
        low, high = self.scale.low, self.scale.high
        stair = steps.staircase(self._level)
        plain = isinstance(self.curve, Linear) and self.palette is None and self.formula is None
        if not plain or low == high or not math.isfinite(high - low):
            return stair
        band = self.band
        line = steps.Line(band.scale, band.offset, low, high - low, self.scale.invert)
        return replace(stair, line=line)

    def levels(self, stored: NDArray[Any], work: int) -> NDArray[np.uint8]:
        """Return levels of (rows, columns) stored numbers; NaN gets 0."""
        if stored.dtype.kind in "biu" and stored.dtype.itemsize <= 2:
            table = (self.table(stored.dtype) & 0xFF).astype(np.uint8)
            return np.take(table, tables.as_index(np.ascontiguousarray(stored)), mode="wrap")
        out = np.empty(stored.shape, np.uint8)
        if stored.dtype in (np.float16, np.float32) and self.stepped:
            step = steps.step_levels.choose(work, stored.size)
            step(stored.astype(np.float32, copy=False), self.stairs, out)
            return out
        for start in range(0, len(stored), _ROWS):
            part = self._level(stored[start : start + _ROWS])
            out[start : start + _ROWS] = np.nan_to_num(part, nan=0.0)
        return out

    def levels16(self, stored: NDArray[Any]) -> NDArray[np.uint16]:
        """Return levels 0...65535, from t itself."""
        out = np.empty(stored.shape, np.uint16)
        for start in range(0, len(stored), _ROWS):
            part = levels.level(self.t(stored[start : start + _ROWS]), 65535)
            out[start : start + _ROWS] = np.nan_to_num(part, nan=0.0)
        return out


def ranges_said(scales: Sequence[Scale]) -> list[str]:
    """Say which bands are shown from which number to which; once where all have the same."""
    numbers = [f"{one.low:.4g} … {one.high:.4g}" + (
        f" {one.unit}" if one.unit not in (None, "1") else "") for one in scales]  # fmt: skip
    if len(set(numbers)) == 1:
        return [f"{' '.join(one.band for one in scales)} {numbers[0]}"]
    return [f"{one.band} {said}" for one, said in zip(scales, numbers, strict=True)]


@lru_cache(maxsize=12)
def _table_at_hand(shading: Shading, dtype: np.dtype[Any]) -> NDArray[np.uint16]:
    return shading._made_table(dtype)
