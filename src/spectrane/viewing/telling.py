"""What the page is told: layers and looks, pictures, what there is to choose from."""

from __future__ import annotations

import math
from typing import Any

import numpy as np

from spectrane.analysis.compared import last_number
from spectrane.display.plan import RenderPlan
from spectrane.display.proposals import proposed
from spectrane.kernels.blending import MODES
from spectrane.model.colormaps import colormaps
from spectrane.model.curves import Curve
from spectrane.model.errors import GridMismatch, SpectraneError
from spectrane.model.limits import Limits
from spectrane.model.printing import printable
from spectrane.model.purposes import PURPOSES
from spectrane.model.roles import PRESETS
from spectrane.model.rules import forms
from spectrane.spatial.ground import ground_at, length_text, round_length
from spectrane.viewing.drawing import ViewFrame
from spectrane.viewing.leaving import render_command, render_python
from spectrane.viewing.session import Session

_RULES = ("auto", "type", "minmax", "percentile:1,99", "percentile:2,98", "deviation:2",
          "deviation:3", "symmetric:99")  # fmt: skip
"""Rules that a button each stands for; their numbers are stepped, or typed. Of the other rules of
the registry, fixed and window, the page takes the numbers from what is shown."""
_CURVES = ("linear", "sqrt", "square", "gamma:1.8", "log", "asinh", "logistic:8", "equalise")
SWATCH = 24
"""Colours of a swatch."""


def plain(value: Any) -> Any:
    """Return what JSON holds: no NaN or infinity, and texts a screen can show.

    >>> plain({"a": [float("nan"), np.float32(1.5), "sea"]})
    {'a': [None, 1.5, 'sea']}
    """
    if isinstance(value, dict):
        return {str(key): plain(one) for key, one in value.items()}
    if isinstance(value, list | tuple):
        return [plain(one) for one in value]
    if isinstance(value, str):
        return printable(value)
    if isinstance(value, np.generic):
        return plain(value.item())
    if isinstance(value, float) and not math.isfinite(value):
        return None
    return value


def facts(said: dict[str, Any]) -> dict[str, Any]:
    """Return a document of plain values: see ``plain``."""
    return {name: plain(value) for name, value in said.items()}


def choices() -> dict[str, Any]:
    """Return what a page may choose from, as the registries have it."""
    return {
        "limits": list(_RULES), "limit_forms": forms(Limits), "curves": list(_CURVES),
        "curve_forms": forms(Curve), "modes": list(MODES), "presets": list(PRESETS),
        "colormaps": dict(PURPOSES),
    }  # fmt: skip


def sampled_maps() -> dict[str, Any]:
    """Return some colours of each colour map: making them all takes as long as a picture does."""
    return {name: [f"#{bytes(entry[:3]).hex()}" for entry in one.sample(SWATCH)]
            for name, one in colormaps.items()}  # fmt: skip


def state_of(session: Session, folder: str | None = None) -> dict[str, Any]:
    """Return how everything is shown just now."""
    state = session.state
    return facts({
        "layers": [_layer(session, number) for number in range(len(session.given))],
        "order": state.order, "active": state.active, "center": state.center,
        "pixel": state.pixel, "own_pixel": min(session.base.pixel_size), "up": session.base.y_up,
        "size": session.size, "marks": state.marks, "outlines": state.outlines,
        "undo": len(session.before), "redo": len(session.after),
        "back": len(session.earlier), "forth": len(session.later),
        "panels": len(state.panels), "panel": state.panel, "swiped": state.swiped,
        "titles": [_title(session, panel) for panel in range(len(state.panels))],
        "command": render_command(session, folder=folder or "."),
        "python": render_python(session), "address": session.to_dict(), "told": session.told,
        "bar": _bar(session), "placed": session.base.placed, "bounds": session.base.bounds,
    })  # fmt: skip


def _title(session: Session, panel: int) -> str:
    try:
        return session.given[session.subject(panel)].layer.title
    except SpectraneError:
        return "nothing"


def _layer(session: Session, number: int) -> dict[str, Any]:
    opened, shown = session.opened[number], session.state.layers[number]
    source = opened.source
    bands = [] if source is None else [
        {"name": band.name, "role": band.role, "wavelength": band.wavelength, "unit": band.unit}
        for band in source.bands
    ]  # fmt: skip
    return {
        "title": opened.layer.title, "file": opened.file, "bands": bands,
        "look": None if source is None else shown.look.to_dict(), "opacity": shown.opacity,
        "visible": shown.visible, "mode": shown.mode, "threshold": shown.threshold,
        "tested": last_number(shown.threshold or ""),
    }  # fmt: skip


def _bar(session: Session) -> dict[str, Any] | None:
    """Return a scale bar for the view: its length in picture pixels, and what it says."""
    try:
        ground = ground_at(session.base, *session.state.center)
    except GridMismatch:
        return None
    metres = session.state.pixel * ground.across
    length = round_length(160 * metres)
    return {"length": length / metres, "text": length_text(length, small=ground.unit == "mm")}


def frame_facts(frame: ViewFrame) -> dict[str, Any]:
    """Return what a picture is: between which numbers each layer is drawn, and its colours."""
    rows, columns = frame.rgba.shape[:2]
    layers, legends = [], []
    for one in frame.planned:
        layers.append([] if one is None else scale_facts(one.plan))
        legends.append(None if one is None else legend_facts(one.plan))
    return facts({"rows": rows, "columns": columns, "layers": layers, "legends": legends})


def scale_facts(plan: RenderPlan) -> list[dict[str, Any]]:
    """Return between which numbers each channel of a plan is drawn."""
    return [
        {"channel": name, "band": scale.band, "low": scale.low, "high": scale.high,
         "unit": scale.unit, "rule": scale.limits, "exact": scale.exact}
        for name, scale in zip(plan.channels, plan.scales, strict=False)
    ]  # fmt: skip


def legend_facts(plan: RenderPlan) -> dict[str, Any] | None:
    """Return the colours of a plan: a bar with its ends, or classes; None of a composite."""
    legend = plan.legend(SWATCH)
    if legend.classes:
        return {"classes": [list(one) for one in legend.classes[:40]]}
    if legend.bar is None:
        return None
    scale = plan.scales[0]
    colors = [f"#{bytes(entry[:3].tolist()).hex()}" for entry in legend.bar.colors]
    return {"colors": colors, "low": scale.low, "high": scale.high, "title": legend.bar.title}


def fitting_map(session: Session) -> dict[str, Any]:
    """Return the colour map that fits the band shown, and why; none of composites."""
    source = session.active_source
    if source is None:
        return {}
    shown = session.state.layers[session.state.active].look.channels
    index = 0
    if isinstance(shown, tuple) and len(shown) == 1:
        names = [band.name for band in source.bands]
        index = names.index(shown[0]) if shown[0] in names else 0
    look, why = proposed(source, index)
    name = None if look.colormap is None else look.colormap.name
    return facts({"colormap": name, "why": why, "limits": str(look.limits[0])})
