"""What is to be looked at twice in a live view, each with what cures it in one gesture."""

from __future__ import annotations

import os
import re
import shlex
from collections.abc import Iterator, Sequence
from typing import Any, TypeAlias

import numpy as np

from spectrane.analysis.fills import declared, fills, nodata_text
from spectrane.display.layers import PlannedLayer
from spectrane.model.addresses import file_stem
from spectrane.model.marks import is_picture, made_from
from spectrane.model.source import Source
from spectrane.viewing.drawing import Judged, ViewFrame
from spectrane.viewing.session import Session
from spectrane.viewing.state import Opened

_LONG, _MASKED = 1.05, 0.005
"""Pixels longer one way by more, and a larger hidden share, are told of."""
_INK, _NATURAL = "#ff3ea5", "natural"
_Cure: TypeAlias = tuple[str, dict[str, Any] | str]
"""A label, and a change of the session or a command to copy."""
_Doubt: TypeAlias = tuple[str, list[_Cure]]


def cures_of(session: Session, frame: ViewFrame, judged: Sequence[Judged]) -> list[dict[str, Any]]:
    """Return what is doubtful about a picture: ``text``, and ``cures``, a ``label`` each with a
    ``change``, or where the data themselves are meant a command to ``copy``.

    What a picture warns of is cured as its own words advise.
    """
    found: dict[str, dict[str, Any]] = {}
    for place, number in enumerate(session.state.order):
        planned, source = frame.planned[place], session.opened[number].source
        if planned is None or source is None:
            listed: Iterator[_Doubt] = ((text, []) for text in judged[place].told)
        else:
            listed = _of_layer(planned, source, session.opened[number], judged[place])
        for text, cures in listed:
            found.setdefault(text, {"text": text, "cures": [
                {"label": label, "copy": what} if isinstance(what, str)
                else {"label": label, "change": {**what, "layer": number}}
                for label, what in cures
            ]})  # fmt: skip
    return list(found.values())


def _of_layer(
    planned: PlannedLayer, source: Source, opened: Opened, judged: Judged
) -> Iterator[_Doubt]:
    masked = judged.masked
    for text in judged.told:
        yield text, list(_advised(source, planned, text))
    title = planned.layer.title
    if is_picture(source):
        origin = made_from(source)
        named = "" if origin is None else f"; it was made from {origin}"
        yield (f"{title}: is a display picture and not data; its numbers are levels that were "
               f"stretched to be seen: do not measure on it{named}",
               list(_of_its_data(opened.file, origin)))  # fmt: skip
    if masked > _MASKED:
        color = planned.plan.look.nodata_color
        cure = ("clear them again", {"nodata_color": None}) if color else (
            "show them in a colour", {"nodata_color": _INK})  # fmt: skip
        yield (f"{title}: {masked:.0%} of its pixels in view are hidden, as no-data or by a mask",
               [(cure[0], {"do": "look", **cure[1]})])  # fmt: skip
    dx, dy = planned.source.grid.pixel_size
    if max(dx, dy) > _LONG * min(dx, dy):
        yield (f"{title}: its pixels are {dx:.6g} by {dy:.6g}; not square, and shown in their "
               "true proportion", list(_squared(opened, min(dx, dy))))  # fmt: skip


def _of_its_data(file: str | None, origin: str | None) -> Iterator[_Cure]:
    """Yield the command that looks at the data of a display picture, where they lie beside it."""
    if file is None or origin is None or os.path.basename(origin) != origin:
        return
    beside = os.path.join(os.path.dirname(file), origin)
    if os.path.exists(beside):
        yield f"copy the command that shows {origin}", shlex.join(["spectrane", "view", beside])


def _squared(opened: Opened, side: float) -> Iterator[_Cure]:
    """Yield the command that makes square pixels of a file's, as small as its are narrow."""
    if opened.file is None:
        return
    output = f"{file_stem(opened.file)}_square.tif"
    words = ["spectrane", "export", opened.file, *opened.words, "-o", output, "--pixel-size",
             repr(float(side))]  # fmt: skip
    yield "copy the command that makes them square", shlex.join(words)


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
