"""The display range kept with a file: what ``auto`` means where there is one that shows data."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from spectrane.analysis.sampling import sample_of
from spectrane.display.limits import found_limits, rules_of
from spectrane.engine.answers import answers
from spectrane.model.limits import Percentile
from spectrane.model.look import Look
from spectrane.model.physical import physical
from spectrane.model.source import Source
from spectrane.model.window import Window


def with_kept_limits(look: Look, own: Look | None) -> tuple[Look, Look | None]:
    """Let ``auto`` mean the display range kept with the file; answer it where it did."""
    if own is None or not own.limits_named or (look.limits_named and look.limits != own.limits):
        return look, None
    if not look.limits_named and len(own.limits) > 1 and look.channels not in (None, own.channels):
        return look, None  # they are those of other channels
    return replace(look, limits=own.limits), own


def unless_it_misses(
    source: Source, look: Look, bands: Sequence[int], window: Window, warnings: list[str]
) -> Look:
    """Return the look, or ``auto`` without the kept range where that shows none of the data.

    Judged by a sample of all the image, so that every part of it is shown alike.
    """
    if len(look.limits) not in (1, len(bands)):
        return look
    rules = rules_of(look, len(bands), source)
    if any(rule.reads for rule in rules) or str(rules[0]) == "type":
        return look
    seen = answers.find(source, ("ends of a sample", tuple(bands)), lambda: _ends(source, bands))
    for found, pair in zip(found_limits(source, bands, rules, look, window), seen, strict=True):
        low, high = min(found.low, found.high), max(found.low, found.high)
        if pair is None or (low <= pair[1] and pair[0] <= high):
            return look
    warnings.append(
        f"the display range kept with the file ({look.limits[0]}) misses the data altogether "
        "and is passed over; keep a better one with: spectrane amend --limits"
    )
    return replace(look, limits=Percentile(1.0, 99.0))


def _ends(source: Source, bands: Sequence[int]) -> list[tuple[float, float] | None]:
    """Return the least and greatest physical value of a sample of bands; None where none is."""
    sample = sample_of(source, bands)
    found: list[tuple[float, float] | None] = []
    for index, band in enumerate(bands):
        values = sample.values(index)
        ends = np.array([values.min(), values.max()]) if values.size else None
        sides = None if ends is None else physical(ends, source.bands[band], np.float64).tolist()
        found.append(None if sides is None else (min(sides), max(sides)))
    return found
