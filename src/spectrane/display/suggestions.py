"""Looks that fit what a raster is, to choose from by eye: composites, indices, curves, maps."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.expressions import INDICES, Computed, parse_expression
from spectrane.analysis.fills import declaring, fills, without
from spectrane.analysis.sampling import MOST_BANDS, sample_of
from spectrane.display.proposals import decibels, looks_like_power, proposed
from spectrane.kernels.records import record
from spectrane.model.errors import BandError
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.model.roles import PRESETS
from spectrane.model.shortly import short_repr
from spectrane.model.source import Source

SHOWN = 8
"""So many looks are suggested, where so many fit."""
_STRETCH = "percentile:2,98"
_FLAGS = ("shared", "invert", "exact")


@record(frozen=True)
class Suggestion:
    """A look that fits a raster, why, and the options of ``spectrane render`` that give it.

    ``source`` is what it shows: the raster, without fill that nobody declared, or a band computed.

    >>> import numpy as np, spectrane as sp
    >>> offered = sp.suggest_looks(sp.from_array(np.arange(64.0).reshape(8, 8)))[0]
    >>> offered.title, offered.options
    ('Values as they are, stretched', '--limits percentile:1,99 --colormap grey')
    """

    title: str
    why: str
    look: Look
    source: Source
    options: str

    __repr__ = short_repr


def looks_that_fit(source: Source) -> list[Suggestion]:
    """Return up to eight looks that fit a raster, the likeliest first.

    What is stored as classes is shown by them alone; fill that nobody declared counts in none.
    """
    declared, start = _without_fill(source)
    made: list[Suggestion] = []
    for look, computed, why in _candidates(declared):
        shown = Computed(declared, dict([computed])) if computed is not None else declared
        options = " ".join([*start, *_compute(computed), *options_of(look)])
        if all(options != one.options for one in made):
            made.append(Suggestion(f"{why[:1].upper()}{why[1:]}", why, look, shown, options))
        if len(made) == SHOWN:
            break
    return made


_Candidate = tuple[Look, tuple[str, str] | None, str]


def _without_fill(source: Source) -> tuple[Source, list[str]]:
    """Return the source without undeclared fill, and the option that says so."""
    bands = range(min(len(source.bands), MOST_BANDS))
    found = fills(source, list(bands))
    if not found:
        return source, []
    declared = without(source, found)
    return declared, ["--nodata", shlex.quote(declaring(source, found))]


def _candidates(source: Source) -> Iterator[_Candidate]:
    if source.categories:
        yield proposed(source, 0)[0], None, "the classes"
        if len(source.bands) == 1:
            yield Look(colormap="pebbles", limits="minmax"), None, "numbers as classes, by a map"
        return
    composites = list(_composites(source))
    yield from composites
    yield from _indices(source)
    if composites:
        first = composites[0][0]
        yield replace(first, curve="sqrt"), None, "the same, dark parts brightened"
        yield replace(first, limits="percentile:0.5,99.5", local_contrast=2.0), None, (
            "the same, with local contrast")  # fmt: skip
        yield replace(first, shared=True), None, "the same, with one pair of limits for all bands"
        yield replace(first, limits="minmax", curve="equalise"), None, (
            "the same, every tone equally often")  # fmt: skip
    yield from _single_bands(source)


def _composites(source: Source) -> Iterator[_Candidate]:
    roles = {band.role for band in source.bands}
    said = {"natural": "natural colours", "infrared": "leaves bright red",
            "shortwave": "bare ground and burns apart from leaves"}  # fmt: skip
    for name, bands in PRESETS.items():
        if roles.issuperset(bands):
            yield Look(channels=name, limits=_STRETCH), None, said[name]
    if len(source.bands) == 3 and not roles.issuperset(PRESETS["natural"]):
        yield Look(channels=(1, 2, 3), limits=_STRETCH), None, "the three bands as colours"
    elif len(source.bands) > 3 and not any(roles & set(PRESETS["natural"])):
        yield Look(channels=(1, 2, 3), limits=_STRETCH), None, "the first three bands as colours"
        yield Look(channels=(3, 2, 1), limits=_STRETCH), None, (
            "the first three bands, the last of them as red")  # fmt: skip


_SAID = {
    "ndvi": "how green it is: leaves high", "ndwi": "open water high",
    "ndbi": "built-up and bare ground high", "nbr": "burnt ground low", "ndsi": "snow high",
    "ndre": "how green it is, in dense leaves", "evi": "how green it is, in dense leaves",
    "savi": "how green it is, over bare soil",
}  # fmt: skip


def _indices(source: Source) -> Iterator[_Candidate]:
    """Yield the indices whose bands are there, at most three."""
    found = 0
    for name, text in INDICES.items():
        try:
            parse_expression(text, source.bands)
        except BandError:
            continue
        yield Look(colormap="auto"), (name, name), _SAID[name]
        found += 1
        if found == 3:
            return


def _single_bands(source: Source) -> Iterator[_Candidate]:
    """Yield ways to show bands one by one: of a single band many, else what each means."""
    for index in range(min(len(source.bands), MOST_BANDS)):
        band = source.bands[index]
        named = "" if len(source.bands) == 1 else f"{band.name}: "
        if looks_like_power(source, index):
            name, _, text = decibels(band, index).partition("=")
            yield Look(limits=_STRETCH), (name, text), f"{named}decibels"
        look, why = proposed(source, index)
        look = look if len(source.bands) > 1 else replace(look, channels=None)
        plain = look.colormap is not None and look.colormap.name == "grey"
        yield look, None, f"{named}{why if not plain else 'values as they are, stretched'}"
        if len(source.bands) == 1:
            yield from _ways(source, look)


def _ways(source: Source, look: Look) -> Iterator[_Candidate]:
    """Yield curves and maps for the only band."""
    values = physical(sample_of(source, (0,)).values(0), source.bands[0], np.float64)
    skewed = values.size > 0 and _skewed(values)
    anchored = look.colormap is not None and look.colormap.anchor is not None
    bent = Look(limits=_STRETCH) if anchored else look  # a bent curve would move the map's own zero
    yield replace(bent, curve="log" if skewed else "sqrt"), None, (
        f"{'grey' if anchored else 'the same'}, dark parts brightened")  # fmt: skip
    yield Look(colormap="grey", limits=_STRETCH), None, "grey, 2 % cut at either end"
    yield Look(colormap="kiln", limits=_STRETCH), None, "a map with the most steps to tell apart"
    yield Look(colormap="grey", limits="minmax", curve="equalise"), None, (
        "every tone equally often: structure")  # fmt: skip
    yield Look(limits=_STRETCH, local_contrast=2.0), None, "local contrast: fine structure"
    yield Look(limits=_STRETCH, invert=True), None, "a negative: faint bright things on white"
    if skewed:
        yield Look(colormap="grey", limits="minmax", curve="asinh"), None, (
            "from the least to the greatest value, by asinh")  # fmt: skip
    else:
        yield Look(colormap="grey", limits="minmax"), None, "from the least to the greatest value"
    yield Look(colormap="grey", limits="deviation:2"), None, "two deviations about the mean"


def _skewed(values: NDArray[np.float64]) -> bool:
    low, middle, high = np.percentile(values, (1, 50, 99))
    return bool(high - middle > 8 * (middle - low))


def _compute(computed: tuple[str, str] | None) -> Sequence[str]:
    if computed is None:
        return []
    name, text = computed
    return ["--compute", shlex.quote(name if name == text else f"{name}={text}")]


def options_of(look: Look) -> list[str]:
    """Return a look as options of the command line.

    >>> options_of(Look(channels=("nir", "red", "green"), limits="percentile:2,98", invert=True))
    ['--channels', 'nir,red,green', '--limits', 'percentile:2,98', '--invert']
    """
    said: list[str] = []
    for name, value in look.to_dict().items():
        option = f"--{name.replace('_', '-')}"
        if name in _FLAGS:
            said += [option]
        elif name == "classes":
            continue  # they are the file's own
        elif name == "limits":
            for rule in [value] if isinstance(value, str) else value:
                said += [option, shlex.quote(rule)]
        else:
            said += [option, shlex.quote(_text(value))]
    return said


def _text(value: object) -> str:
    if isinstance(value, Iterable) and not isinstance(value, str):
        return ",".join(str(one) for one in value)
    return f"{value:g}" if isinstance(value, float) else str(value)
