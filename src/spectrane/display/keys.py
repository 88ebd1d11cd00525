"""What a picture's key says: a bar from end to end, classes that occur, or what colours mean."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
from numpy.typing import NDArray

from spectrane.display.drawing import Rgba
from spectrane.display.plan import RenderPlan
from spectrane.display.shading import Shading
from spectrane.kernels.records import record
from spectrane.model.colors import parse_color
from spectrane.model.physical import physical
from spectrane.model.pixels import Pixels

Entry = tuple[str, str]
"""A colour, and what it stands for."""
_MOST_CLASSES = 20
_APART = 0.05
"""Ticks nearer to an end than this share of the bar make way for it."""
_CUT = 0.001
"""So large a share of the values beyond an end is marked."""

_PURE = (("#ff0000", "bright red"), ("#00ff00", "bright green"), ("#0000ff", "bright blue"))
MEANINGS = {
    "pan": "bright", "coastal": "haze, shallow water", "blue": "haze, shallow water",
    "green": "clear water, fresh green", "yellow": "dry leaves", "red": "bare ground",
    "rededge": "leaves", "nir": "leaves", "cirrus": "thin high cloud", "swir16": "dry ground",
    "swir22": "bare, dry ground", "lwir": "warm ground",
}  # fmt: skip
"""What is bright in a band, by its role."""
_NAMES = {
    "coastal": "coastal blue", "rededge": "red edge", "nir": "near infrared",
    "swir16": "shortwave infrared (1.6 µm)", "swir22": "shortwave infrared (2.2 µm)",
    "lwir": "thermal infrared",
}  # fmt: skip


@record(frozen=True, eq=False)
class Key:
    """A title; a bar of ``colors`` (n, 4) with ``ticks`` (0…1, text), or ``entries``.

    ``cut`` are the colours of what lies below and above the ends; None where nothing does.
    """

    title: str
    colors: NDArray[np.uint8] | None
    ticks: tuple[tuple[float, str], ...] = ()
    entries: tuple[Entry, ...] = ()
    cut: tuple[str | None, str | None] = (None, None)


@record(frozen=True)
class Shown:
    """What a key tells of: a layer's title, how it is shown, and what was drawn, if known."""

    title: str
    plan: RenderPlan
    pixels: Pixels | None = None
    rgba: Rgba | None = None
    """Of a layer whose pixels are not known any more, the colours tell which classes occur."""

    def key(self, steps: int) -> Key | None:
        """Return its key, with a bar of so many colours; None where there is nothing to tell."""
        return key_of(self.title, self.plan, steps, self.pixels, self.rgba)


def key_of(
    title: str, plan: RenderPlan, steps: int, pixels: Pixels | None = None,
    rgba: Rgba | None = None,
) -> Key | None:  # fmt: skip
    """Return the key of what a plan draws, with a bar of so many colours; None for nothing to say.

    With ``pixels``, those that were drawn, or the picture ``rgba``, only classes that occur are
    listed; with ``pixels`` ends that values lie beyond are marked.
    """
    if not plan.shadings:
        seen = classes_seen(plan, occurring_in(pixels))
        if pixels is None and rgba is not None:
            words = np.unique(np.ascontiguousarray(rgba).view(np.uint32))
            drawn = set(map(tuple, words.view(np.uint8).reshape(-1, 4).tolist()))
            seen = tuple(entry for entry in seen if parse_color(entry[0]) in drawn)
        entries = _listed(seen, plan, drawn=pixels is not None or rgba is not None)
        return Key(title, None, entries=entries) if entries else None
    bar = plan.legend(steps).bar
    if bar is None:
        entries = composite_entries(plan.shadings)
        return Key(title if entries else f"{title}: natural colours", None, entries=entries)
    shading = plan.shadings[0]
    inside = [tick for tick in bar.ticks if _APART <= tick[0] <= 1 - _APART]
    ends = [(0.0, f"{shading.scale.low:.4g}"), (1.0, f"{shading.scale.high:.4g}")]
    cut = (None, None) if pixels is None else _cut(shading, pixels, bar.colors)
    return Key(bar.title, bar.colors, tuple(sorted([*inside, *ends])), cut=cut)


def _listed(seen: tuple[Entry, ...], plan: RenderPlan, *, drawn: bool) -> tuple[Entry, ...]:
    """Return the entries there is room for: of very many those that have a name, and how many more
    were ``drawn``.
    """
    if len(seen) <= _MOST_CLASSES:
        return seen
    unnamed = {f"{value:g}" for value in plan.classes}
    named = tuple(entry for entry in seen if entry[1] not in unnamed)[: _MOST_CLASSES - 1]
    rest = (("#00000000", f"and {len(seen) - len(named)} more"),)
    return (*named, *(rest if drawn or named else ()))


def classes_seen(plan: RenderPlan, occurring: frozenset[float] | None = None) -> tuple[Entry, ...]:
    """Return (colour, label) of the classes that have a colour and occur; a number for no label."""
    return tuple(
        (color, label or f"{value:g}") for value, (color, label) in plan.classes.items()
        if parse_color(color)[3] > 0 and (occurring is None or value in occurring)
    )  # fmt: skip


def occurring_in(pixels: Pixels | None) -> frozenset[float] | None:
    """Return the numbers that occur among valid pixels of the first band; None for none known."""
    if pixels is None:
        return None
    return frozenset(np.unique(pixels.values[0][pixels.validity[0]]).astype(float).tolist())


def composite_entries(shadings: Iterable[Shading]) -> tuple[Entry, ...]:
    """Say in plain words what the colours of a composite mean: a swatch and a text each.

    Bands without a role are told by their names alone; natural colours need no words.
    """
    listed = list(shadings)[:3]
    if [shading.band.role for shading in listed] == ["red", "green", "blue"]:
        return ()
    entries = []
    for (color, called), shading in zip(_PURE, listed, strict=True):
        role = (shading.band.role or "").rstrip("0123456789")
        role = shading.band.role if shading.band.role in MEANINGS else role
        meaning = f"{MEANINGS[role]}, " if role in MEANINGS else ""
        name = _NAMES.get(str(role), str(role) if role else shading.scale.band)
        entries.append((color, f"{called}: {meaning}high {name}"))
    return (*entries, ("#ffffff", "white: high in all"), ("#000000", "black: low in all"))


def _cut(
    shading: Shading, pixels: Pixels, colors: NDArray[np.uint8]
) -> tuple[str | None, str | None]:
    values = physical(pixels.values[0][pixels.validity[0]], shading.band, np.float64)
    values = values[np.isfinite(values)]
    beyond = shading.beyond(values) * (1 if shading.scale.low <= shading.scale.high else -1)
    first, last = (f"#{bytes(color).hex()}" for color in (colors[0], colors[-1]))
    enough = _CUT * max(1, values.size)
    return (first if (beyond < 0).sum() > enough else None,
            last if (beyond > 0).sum() > enough else None)  # fmt: skip
