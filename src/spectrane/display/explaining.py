"""Why a picture looks as it does: black, white, flat, grey or odd, in sentences with a cure."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.walking import finite
from spectrane.display.misleading import BRIGHT, DARK, misleading
from spectrane.display.plan import RenderPlan, kept_range, resolve
from spectrane.display.proposals import decibels, looks_like_power
from spectrane.display.shading import Scale
from spectrane.kernels.ranks import percentiles
from spectrane.model.limits import Type
from spectrane.model.look import Look
from spectrane.model.physical import ends
from spectrane.model.pixels import Pixels
from spectrane.model.roles import PRESETS
from spectrane.model.source import Source
from spectrane.model.view import fitted
from spectrane.model.window import whole

_SIDE = 512
_FLAT, _GREY, _HIDDEN = 0.04, 0.02, 0.01
"""Levels that spread so little are flat; channels that lie so near are grey; so much is told."""
_ENDS = ("Black", "White", "Flat")
_FAR = 10
"""An extreme value so many times the usual span away is an outlier."""


def explained(source: Source, look: Look | None = None) -> list[str]:
    """Return sentences on how a raster comes out, why, and what to do; the last says so if fine."""
    window = whole(source.shape)
    plan = resolve(source, look, window)
    pixels = plan.read(source, window, fitted(window, (_SIDE, _SIDE)), "nearest")
    rgba = plan.draw(pixels)
    asked = look is not None and look.channels is not None
    said = list(_what_is_shown(source, plan, asked=asked))
    causes = list(_causes(source, plan, pixels, rgba))
    known = any(cause.startswith(_ENDS) for cause in causes)  # which says more of the same
    judged = [] if known else misleading(plan, pixels, rgba)
    causes += [_sentence(text) for text in (*plan.warnings, *judged)]
    return said + (causes or ["Nothing about it looks wrong."])


def _sentence(text: str) -> str:
    return f"{text[:1].upper()}{text[1:]}."


def _what_is_shown(source: Source, plan: RenderPlan, *, asked: bool) -> Iterator[str]:
    names = [band.name for band in plan.described]
    if plan.classes:
        yield f"Shown: {names[0]} by the colours of its {len(plan.classes)} classes."
        return
    roles = [band.role for band in plan.described[:3]]
    kept = source.look is not None and source.look.channels is not None
    if len(names) == 1:
        more = "" if len(source.bands) == 1 else (
            ", since that is asked" if asked else
            ", since that is kept with the file" if kept else
            ", since nothing says which bands are red, green and blue")  # fmt: skip
        coloured = plan.look.colormap
        ink = "in grey" if coloured is None else f"in the colours of {coloured.name}"
        yield f"Shown: {names[0]} {ink}{more}."
    else:
        why = (
            "that is asked"
            if asked
            else "that is kept with the file"
            if kept
            else "their roles say so"
            if None not in roles
            else "three bands of 8 bits are taken for a colour picture"
        )
        colors = ("red", "green", "blue", "transparency")
        listed = ", ".join(f"{name} as {color}"
                           for name, color in zip(names, colors, strict=False))  # fmt: skip
        yield f"Shown: {listed}, since {why}."
    rules = ", ".join(dict.fromkeys(scale.limits for scale in plan.scales[:3]))
    because = ("the type's whole range, unstretched, as for all data of 8 bits"
               if all(isinstance(one.rule, Type) for one in plan.shadings[:3]) else
               "kept with the file" if kept_range(source) is not None else
               "found in the values")  # fmt: skip
    ranges = "; ".join(_range(scale) for scale in plan.scales[:3])
    yield f"Limits: {ranges} ({rules}: {because})."


def _range(scale: Scale) -> str:
    unit = f" {scale.unit}" if scale.unit not in (None, "1") else ""
    return f"{scale.band} {scale.low:.5g} to {scale.high:.5g}{unit}"


def _causes(
    source: Source, plan: RenderPlan, pixels: Pixels, rgba: NDArray[np.uint8]
) -> Iterator[str]:
    shown = rgba[..., 3] > 0
    hidden = 1 - float(shown.mean())
    if hidden > _HIDDEN:
        yield f"Clear: {hidden:.0%} of it is hidden, {_why_hidden(source, plan)}."
    if not shown.any() or plan.classes:
        return
    colors = rgba[..., :3][shown].astype(float) / 255
    mean, spread = float(colors.mean()), float(colors.std(axis=0).max())
    if mean < DARK:
        yield f"Black: the mean level is {mean:.0%}. {_why_at_an_end(plan, pixels)}"
    elif mean > BRIGHT:
        yield f"White: the mean level is {mean:.0%}. {_why_at_an_end(plan, pixels)}"
    elif spread < _FLAT:
        yield (f"Flat: levels spread by {spread:.0%} about {mean:.0%}. "
               f"{_why_at_an_end(plan, pixels)}")  # fmt: skip
    yield from _odd_colours(source, plan, colors)
    if len(plan.bands) == 1 and looks_like_power(source, plan.bands[0]):
        text = decibels(plan.described[0], plan.bands[0])
        yield (f"Power: {plan.described[0].name} looks like power, of which few very bright pixels "
               f"leave the rest dark; decibels show all: --compute '{text}'.")  # fmt: skip


def _why_hidden(source: Source, plan: RenderPlan) -> str:
    values = {str(band.nodata) for band in plan.described if band.nodata is not None}
    ways = [f"no-data {', '.join(sorted(values))}"] if values else []
    ways += ["a mask in the file"] if source.has_mask else []
    ways += ["alpha"] if source.alpha else []
    ways += ["NaN"] if source.dtype.kind == "f" else []
    if plan.classes:
        ways.append("numbers of no class")
    how = " where any band shown is so" if len(plan.bands) > 1 and plan.nodata_when == "any" else ""
    return f"by {' or '.join(ways) or 'what is invalid'}{how}"


def _why_at_an_end(plan: RenderPlan, pixels: Pixels) -> str:
    """Say how the usual values lie in the limits, and what keeps them there."""
    parts = []
    for channel, shading in enumerate(plan.shadings[:3]):
        values = finite(pixels.values[channel][pixels.validity[channel]])
        if not values.size:
            continue
        if values.min() == values.max():
            only = ends((values.min(),), shading.band)[0]
            parts.append(f"{shading.band.name}: every value is {only:.5g}: there is nothing to see")
            continue
        low, high = ends(percentiles(values, (2, 98)), shading.band)
        least, most = ends((values.min(), values.max()), shading.band)
        first, last = sorted((shading.scale.low, shading.scale.high))
        parts.append(f"{shading.band.name}: nearly all values lie from {low:.5g} to {high:.5g}, "
                     f"and the limits are {first:.5g} to {last:.5g}")  # fmt: skip
        if high > low and max(most - high, low - least) > _FAR * (high - low):
            end = most if most - high > low - least else least
            parts[-1] += f"; single values reach {end:.5g}, and limits from end to end go there"
    tries = "" if all("every value" in part for part in parts) else " Try --limits percentile:2,98."
    return f"{'. '.join(parts)}.{tries}"


def _odd_colours(source: Source, plan: RenderPlan, colors: NDArray[np.float64]) -> Iterator[str]:
    """Tell of composites that come out grey, or with colours that nothing in nature has."""
    if len(plan.bands) < 3:
        roles = {band.role for band in source.bands}
        preset = next((name for name, need in PRESETS.items() if roles.issuperset(need)), None)
        if len(source.bands) > 2 and plan.look.colormap is None:
            more = (
                f": --channels {preset}"
                if preset
                else ("; name them (spectrane amend --roles …) or say three: --channels 3,2,1")
            )
            yield f"Grey: one band of {len(source.bands)} is shown{more}."
        return
    apart = float(np.abs(colors - colors.mean(axis=1, keepdims=True)).max(axis=1).mean())
    if len(set(plan.bands[:3])) == 1:
        yield "Grey: the same band is shown as red, green and blue."
    elif apart < _GREY:
        yield (f"Grey: the three bands are nearly alike (their levels differ by {apart:.1%} on "
               "average); try bands that lie further apart, or --limits for each.")  # fmt: skip
    named = [band.role for band in plan.described[:3]]
    if named == ["blue", "green", "red"] and not any("show blue as red" in one
                                                      for one in plan.warnings):  # fmt: skip
        yield "Odd colours: blue is shown as red and red as blue; natural: --channels natural."
    elif named == [None] * 3 and len(source.bands) > 3:
        yield ("Odd colours: nothing says which bands are red, green and blue; name them: "
               "spectrane amend --roles …")  # fmt: skip
