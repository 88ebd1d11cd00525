"""A colour map that fits what a band means; told, never silently put on."""

from __future__ import annotations

import re
from dataclasses import replace

import numpy as np

from spectrane.analysis.sampling import sample_of
from spectrane.analysis.walking import sampled
from spectrane.model.band import Band
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.model.roles import PRESETS
from spectrane.model.source import Source
from spectrane.model.window import whole

_WORDS: tuple[tuple[str, str, str], ...] = (
    (r"\b(m?ndwi|water index)\b", "estuary reversed", "an index of water"),
    (r"\b(ndbi|built-?up index)\b", "peatbog", "an index of bare and built-up ground"),
    (r"\b(ndsi|snow index)\b", "slate", "an index of snow"),
    (r"\b(nd[a-z]i|evi|savi|nbr|greenness|vegetation|index)\b", "sward", "an index"),
    (
        r"\b(depth|bathymetr\w*|elevation|height|altitude|terrain|relief)\b",
        "chartroom",
        "a depth or height",
    ),
    (r"\b(temperature|thermal|heat|brightness temp\w*)\b", "kiln", "a temperature"),
    (r"\b(direction|aspect|phase|azimuth|orientation)\b", "weathervane", "a direction"),
)
_POWER = r"\b(sigma ?0|sigma nought|gamma ?0|beta ?0|backscatter\w*|power|vv|vh|hh|hv)\b"
_COMPOSITES = {"natural": "bands of red, green and blue", "infrared": "bands of infrared, red and "
               "green", "shortwave": "bands of shortwave infrared, infrared and red"}  # fmt: skip
_ENOUGH = 300_000
_WARM = {"k", "kelvin", "degc", "celsius", "degf", "°c"}


def composite(source: Source) -> tuple[Look, str] | None:
    """Return a composite that fits the bands' roles, and why; None where none does."""
    roles = {band.role for band in source.bands}
    for name, why in _COMPOSITES.items():
        if roles.issuperset(PRESETS[name]):
            return Look(channels=name, limits="percentile:2,98"), why
    if len(source.bands) == 3 and source.dtype == np.uint8:
        return Look(channels=(1, 2, 3), limits="type"), "three bands of 8 bits, a colour picture"
    return None


def looks_like_power(source: Source, index: int) -> bool:
    """Tell whether a band's values look like power: named so or far from even, and above 0.

    Of unnamed ones the greatest hundredth must lie far further above the middle than the least
    lies below it, over two decades, as the power of echoes does.
    """
    band = source.bands[index]
    if len(source.shape) == 3 or source.categories or (band.unit or "1") not in ("1", "W", "V2"):
        return False
    named = re.search(_POWER, _text(band)) is not None
    if not named and (source.dtype.kind != "f" or band.role is not None):
        return False
    values = physical(sample_of(source, (index,)).values(0), band, np.float64)
    if values.size < 100 or float((values <= 0).mean()) > 0.02:
        return False
    low, middle, high = np.percentile(values, (1, 50, 99))
    if named:
        return bool(high < 1e4)
    return bool(low > 0 and high > 100 * low and high - middle > 5 * (middle - low))


def proposed(source: Source, index: int) -> tuple[Look, str]:
    """Return a look that fits a band, and why: its classes, its meaning, or the signs it takes.

    A depth or height has its sharp zero in the middle only where both signs occur.
    """
    band = source.bands[index]
    if source.categories and source.look is not None:
        return Look(channels=(index + 1,), classes=source.look.classes), "classes"
    meaning = _meaning(band)
    signed = _signed(source, index)
    if meaning is not None:
        name, why = meaning
        if name == "chartroom" and not signed:
            name = "estuary reversed" if "depth" in _text(band) else "peatbog"
        limits = "symmetric:99" if name == "chartroom" else "percentile:1,99"
        return Look(channels=(index + 1,), colormap=name, limits=limits), why
    if looks_like_power(source, index):
        look = Look(channels=(index + 1,), colormap="grey", limits="percentile:1,99", curve="log")
        return look, f"power, in tones of decibels; as numbers: {decibels(band, index)}"
    if signed:
        look = Look(channels=(index + 1,), colormap="ebbflow", limits="symmetric:99")
        return look, "values of both signs"
    return Look(channels=(index + 1,), colormap="grey", limits="percentile:1,99"), "plain values"


def decibels(band: Band, index: int) -> str:
    """Return what computes a band's decibels, as ``--compute`` takes it."""
    word = re.sub(r"\W", "_", band.name.strip()) or "band"
    return f"{word}_db=db(band({index + 1}))"


def fitting_colormap(source: Source, look: Look, bands: list[int]) -> tuple[Look, str | None]:
    """Return a look whose colour map ``auto`` has become a fitting one, and what to tell of it."""
    found, why = proposed(source, bands[0])
    if found.classes:
        return replace(look, colormap=None, classes=found.classes), None
    limits = look.limits if look.limits_named else found.limits
    told = f"{source.bands[bands[0]].name}: {why}, shown with the colour map {found.colormap.name}"
    return replace(look, colormap=found.colormap, limits=limits), told


def _text(band: Band) -> str:
    return f"{band.name} {band.description or ''}".lower().replace("_", " ")


def _meaning(band: Band) -> tuple[str, str] | None:
    for pattern, name, why in _WORDS:
        if re.search(pattern, _text(band)):
            return name, why
    if (band.unit or "").strip().lower() in _WARM:
        return "kiln", "a temperature"
    return None


def _signed(source: Source, index: int) -> bool:
    """Tell whether a tenth at least of a band's values lie on either side of zero."""
    if len(source.shape) == 3:
        parts = sampled(source, [index], whole(source.shape), _ENOUGH)()
        stored = np.concatenate([part[0] for part in parts])
    else:
        stored = sample_of(source, (index,)).values(0)
    values = physical(stored, source.bands[index])
    if not values.size:
        return False
    below = float((values < 0).mean())
    return 0.02 < below < 0.98
