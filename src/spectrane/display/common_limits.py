"""One pair of limits for several rasters: found in all of their values together."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.fills import fills
from spectrane.display.channels import shown_bands
from spectrane.display.kept_limits import unless_it_misses, with_kept_limits
from spectrane.display.limits import (
    ENOUGH,
    MOST_EXACT,
    FoundValues,
    Reading,
    SeenValues,
    rules_of,
)
from spectrane.display.plan import with_classes
from spectrane.engine.described import ruled
from spectrane.model.errors import LookError
from spectrane.model.limits import Auto, Found, Limits, Pair, Percentile
from spectrane.model.look import Look, look_of
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.window import Window, whole, window_area

Scene = tuple[Source, Look]
"""A raster and how it is to be shown."""


class PooledValues(FoundValues):
    """The values of bands of several rasters, each as it is: ``model.limits.Values``."""

    def __init__(self, parts: Sequence[SeenValues]) -> None:
        self.parts = parts

    def physical(self) -> Iterator[NDArray[np.float64]]:
        """Walk the physical values of all, one raster after another."""
        for part in self.parts:
            yield from part.physical()

    @cached_property
    def counted(self) -> tuple[NDArray[np.float64], NDArray[np.int64]] | None:
        """The physical values that occur, ascending, and how often; None of types too wide."""
        found = [one for part in self.parts if (one := part.counted) is not None]
        if len(found) < len(self.parts):
            return None
        values, often = (np.concatenate([one[side] for one in found]) for side in (0, 1))
        order = np.argsort(values, kind="stable")
        return values[order], often[order]

    def type_range(self) -> Pair:
        """Return the range of all types together."""
        ranges = [part.type_range() for part in self.parts]
        return min(low for low, _ in ranges), max(high for _, high in ranges)


def one_rule(scenes: Sequence[Scene]) -> tuple[list[Look], str | None]:
    """Let limits that are left to be found follow one rule, whatever the types; say which.

    ``auto`` means the type's range for 8 bits and percentiles for others, which is right for each
    alone and misleads side by side. Looks are returned as they are where nothing differs.
    """
    looks = [look for _, look in scenes]
    open_ones = [
        (number, source.stored_type) for number, (source, look) in enumerate(scenes)
        if not with_kept_limits(look, source.look)[0].limits_named and not _by_classes(source, look)
    ]  # fmt: skip
    if len({Auto.stretches(dtype) for _, dtype in open_ones}) < 2:
        return looks, None
    for number, _ in open_ones:
        looks[number] = replace(looks[number], limits=Percentile(1.0, 99.0))
    types = ", ".join(sorted({dtype.name for _, dtype in open_ones}))
    return looks, f"limits percentile:1,99 for all, since their types differ ({types})"


def _by_classes(source: Source, look: Look) -> bool:
    return bool(with_classes(source, look, shown_bands(source, look, [])).classes)


def common_limits(scenes: Sequence[Scene], *, covered: bool = False) -> list[Look]:
    """Return looks with limits from the values of all rasters together.

    Each raster's first channel goes with the others' first, and so on; rasters shown by classes are
    left as they are. Every pixel counts up to 16 million in all, or where a look says ``exact``;
    of more, samples in proportion to their pixels. Raises LookError where they do not show equally
    many channels, or their rules differ. Warns where limits see no values and yet some of them
    were ``covered``.
    """
    looks = [look_of(look) or Look() for _, look in scenes]
    chosen = [number for number, (source, _) in enumerate(scenes)
              if not _by_classes(source, looks[number])]  # fmt: skip
    if not chosen:
        return looks
    sources = [ruled(scenes[n][0], looks[n].nodata_when) for n in chosen]
    asked = [looks[n] for n in chosen]
    limits = _limits(sources, asked)
    blind = [rule.told for rule in limits if isinstance(rule, Found) and not rule.found]
    if covered and len(blind) == len(limits):
        warn_caller(f"limits {blind[0]} are the same whatever the values, so leaving some out "
                    "changes nothing; say limits such as percentile:2,98")  # fmt: skip
    for number in chosen:
        looks[number] = replace(looks[number], limits=limits, shared=False)
    return looks


def _limits(sources: Sequence[Source], looks: Sequence[Look]) -> list[Limits]:
    bands = [shown_bands(source, look, []) for source, look in zip(sources, looks, strict=True)]
    if len({len(one) for one in bands}) > 1:
        counts = ", ".join(f"{source.name or 'an array'} {len(one)}"
                           for source, one in zip(sources, bands, strict=True))  # fmt: skip
        raise LookError(f"limits of several rasters: they show different numbers of channels "
                        f"({counts}); say the same channels for all")  # fmt: skip
    looks = _in_one_way(sources, looks, bands)
    rules = [rules_of(look, len(one), source)[:3]
             for source, look, one in zip(sources, looks, bands, strict=True)]  # fmt: skip
    first, name = rules[0], sources[0].name or "the first"
    for source, other in zip(sources, rules, strict=True):
        if [str(rule) for rule in other] != [str(rule) for rule in first]:
            raise LookError(f"limits of several rasters: {other[0]} of {source.name or 'an array'} "
                            f"is not {first[0]} of {name}; say --limits for all")  # fmt: skip
    readings = _readings(sources, looks, bands)
    if not looks[0].shared:
        return [_found(rule, readings, [(one[channel],) for one in bands], len(sources))
                for channel, rule in enumerate(first)]  # fmt: skip
    pooled = _found(first[0], readings, [tuple(one[:3]) for one in bands], len(sources))
    return [pooled]


def _in_one_way(
    sources: Sequence[Source], looks: Sequence[Look], bands: Sequence[Sequence[int]]
) -> list[Look]:
    """Return looks that find limits alike: by what is kept with all files, else by one rule."""
    kept = [_kept(*one) for one in zip(sources, looks, bands, strict=True)]
    if all(look.limits == kept[0].limits for look in kept) and kept[0].limits_named:
        return kept
    if any(look.limits_named for look in looks):
        return list(looks)
    rule = (
        Auto() if not any(Auto.stretches(s.stored_type) for s in sources) else Percentile(1.0, 99.0)
    )
    return [replace(look, limits=rule) for look in looks]


def _kept(source: Source, look: Look, bands: Sequence[int]) -> Look:
    """Return a look with the range kept with the file, unless that shows none of its data."""
    kept, own = with_kept_limits(look, source.look)
    if own is None:
        return look
    told: list[str] = []
    found = unless_it_misses(source, kept, bands, whole(source.shape), told)
    for message in told:
        warn_caller(message)
    return found


def _readings(
    sources: Sequence[Source], looks: Sequence[Look], bands: Sequence[Sequence[int]]
) -> list[Reading]:
    """Return how each raster is read: all of them whole, or each by its share of a sample."""
    sizes = [window_area(whole(source.shape)) for source in sources]
    exact = sum(sizes) <= MOST_EXACT or any(look.exact for look in looks)
    made = []
    for source, look, shown, size in zip(sources, looks, bands, sizes, strict=True):
        everything: Window = whole(source.shape)
        auto = Auto.stretches(source.stored_type)
        made.append(Reading(
            source, tuple(dict.fromkeys(shown[:3])), replace(look, exact=exact), everything,
            fills(source, list(shown)) if auto else (),
            None if exact else max(1, ENOUGH * size // sum(sizes)),
        ))  # fmt: skip
    return made


def _found(
    rule: Limits, readings: Sequence[Reading], bands: Sequence[tuple[int, ...]], count: int
) -> Limits:
    if rule.formula is not None:
        return rule  # a file's own window, the same in all
    pooled = PooledValues(
        [SeenValues(one, held) for one, held in zip(readings, bands, strict=True)]
    )
    low, high = rule.find(pooled)
    if not (np.isfinite(low) and np.isfinite(high)):
        raise LookError("limits of several rasters: none of them has a valid value")
    where = "" if count == 1 else f" of {count} rasters"
    sampled = rule.reads and not all(one.exact for one in readings)
    return Found(float(low), float(high), f"{rule}{where}", sampled, rule.reads)
