"""What is to be looked at twice in a live view, each with what cures it in one gesture."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import Any, TypeAlias

import numpy as np

from spectrane.analysis.fills import declared, fills, nodata_text
from spectrane.display.layers import PlannedLayer
from spectrane.model.marks import is_picture
from spectrane.model.source import Source
from spectrane.viewing.drawing import Judged, ViewFrame
from spectrane.viewing.session import Session

_LONG, _MASKED = 1.05, 0.005
"""Pixels longer than wide by more, and a larger hidden share, are told of."""
_INK, _NATURAL = "#ff3ea5", "natural"
_Cure: TypeAlias = tuple[str, dict[str, Any]]
_Doubt: TypeAlias = tuple[str, list[_Cure]]


def cures_of(session: Session, frame: ViewFrame, judged: Sequence[Judged]) -> list[dict[str, Any]]:
    """Return what is doubtful about a picture: ``text``, and ``cures``, a label and a change each.

    What a picture warns of is cured as its own words advise.
    """
    found: dict[str, dict[str, Any]] = {}
    for place, number in enumerate(session.state.order):
        planned, source = frame.planned[place], session.opened[number].source
        if planned is None or source is None:
            listed: Iterator[_Doubt] = ((text, []) for text in judged[place].told)
        else:
            listed = _of_layer(planned, source, judged[place].told, judged[place].masked)
        for text, cures in listed:
            found.setdefault(text, {"text": text, "cures": [
                {"label": label, "change": {**change, "layer": number}} for label, change in cures
            ]})  # fmt: skip
    return list(found.values())


def _of_layer(
    planned: PlannedLayer, source: Source, told: Sequence[str], masked: float
) -> Iterator[_Doubt]:
    for text in told:
        yield text, list(_advised(source, planned, text))
    title = planned.layer.title
    if is_picture(source):
        yield (f"{title}: is a display picture and not data; its numbers are levels that were "
               "stretched to be seen: do not measure on it"), []  # fmt: skip
    if masked > _MASKED:
        color = planned.plan.look.nodata_color
        cure = ("clear them again", {"nodata_color": None}) if color else (
            "show them in a colour", {"nodata_color": _INK})  # fmt: skip
        yield (f"{title}: {masked:.0%} of its pixels in view are hidden, as no-data or by a mask",
               [(cure[0], {"do": "look", **cure[1]})])  # fmt: skip
    dx, dy = planned.source.grid.pixel_size
    if max(dx, dy) > _LONG * min(dx, dy):
        yield (f"{title}: its pixels are {dx:.6g} by {dy:.6g}; they are shown in their true "
               "proportion, longer than wide"), []  # fmt: skip


def _advised(source: Source, planned: PlannedLayer, text: str) -> Iterator[_Cure]:
    """Yield what a warning itself advises: limits, or the declaration of fill."""
    for rule in dict.fromkeys(re.findall(r"try (?:limits )?([a-z]+:[\d.,]+\d)", text)):
        yield f"limits {rule}", {"do": "look", "limits": rule, "shared": None}
    if "--nodata" in text:
        suspects = fills(source, planned.plan.bands)
        items = declared(source, suspects)
        yield f"declare {nodata_text(items)} as no-data", {"do": "nodata", "items": items}
    if text.endswith(f"or: {_NATURAL}"):
        yield "natural colours", {"do": "look", "channels": _NATURAL}
    if "saturated" in text:
        items = [*declared(source, ()), int(np.iinfo(source.dtype).max)]
        yield "leave the saturated pixels out", {"do": "nodata", "items": items}
