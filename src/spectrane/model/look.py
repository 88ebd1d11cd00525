"""Looks: how a raster is to be shown, as a small declaration that never touches the data."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from typing import Any, TypeAlias

from spectrane.model.band import BandName
from spectrane.model.errors import LookError, nearest
from spectrane.model.roles import PRESETS
from spectrane.model.source import RESAMPLINGS

Channels: TypeAlias = str | int | tuple[BandName, ...]
Class: TypeAlias = tuple[str, str]
"""A class's colour (``#rrggbb``) and label."""

# Name -> how many parameters, and their defaults where they may be left out.
LIMIT_KINDS: dict[str, tuple[int, tuple[float, ...]]] = {
    "auto": (0, ()),
    "type": (0, ()),
    "minmax": (0, ()),
    "percentile": (2, ()),
    "deviation": (1, ()),
    "fixed": (2, ()),
}
CURVE_KINDS: dict[str, tuple[int, tuple[float, ...]]] = {"linear": (0, ())}


@dataclass(frozen=True)
class Setting:
    """A named rule with its parameters, as in ``percentile:2,98``."""

    kind: str
    parameters: tuple[float, ...] = ()

    def __str__(self) -> str:
        """Write it as it is given."""
        numbers = ",".join(f"{value:.10g}" for value in self.parameters)
        return f"{self.kind}:{numbers}" if numbers else self.kind


def parse_setting(
    what: str, text: str, kinds: Mapping[str, tuple[int, tuple[float, ...]]]
) -> Setting:
    """Read ``name`` or ``name:number,number``, or raise LookError with what is possible.

    >>> parse_setting("limits", "percentile:2,98", LIMIT_KINDS)
    Setting(kind='percentile', parameters=(2.0, 98.0))
    """
    kind, _, tail = str(text).strip().partition(":")
    if kind not in kinds:
        raise LookError(f"{what} {text!r}: expected one of {', '.join(sorted(kinds))}")
    count, defaults = kinds[kind]
    try:
        numbers = tuple(float(part) for part in tail.split(",")) if tail else defaults
    except ValueError:
        raise LookError(f"{what} {text!r}: {tail!r} is not {count} numbers") from None
    if len(numbers) != count:
        raise LookError(f"{what} {text!r}: {kind} takes {count} numbers, not {len(numbers)}")
    if not all(map(math.isfinite, numbers)):
        raise LookError(f"{what} {text!r}: the numbers must be finite")
    return Setting(kind, numbers)


def parse_limits(given: Any) -> Setting:
    """Read limits: a text such as ``percentile:2,98``, or a pair (low, high).

    >>> str(parse_limits((0, 3000)))
    'fixed:0,3000'
    """
    if isinstance(given, Setting):
        return given
    if isinstance(given, tuple | list) and len(given) == 2:
        given = f"fixed:{given[0]!r},{given[1]!r}"
    setting = parse_setting("limits", given, LIMIT_KINDS)
    numbers = setting.parameters
    if setting.kind == "percentile" and not 0 <= numbers[0] < numbers[1] <= 100:
        raise LookError(f"limits {given!r}: expected 0 <= low < high <= 100")
    if setting.kind == "deviation" and not numbers[0] > 0:
        raise LookError(f"limits {given!r}: the number of deviations must be above 0")
    return setting


def _is_pair(given: Any) -> bool:
    return len(given) == 2 and all(isinstance(v, int | float) for v in given)


@dataclass(frozen=True)
class Look:
    """How to show a raster. Every field has a default; None means "find what fits".

    ``channels``: one band in grey; three as red, green, blue; four with the last as alpha; or a
    preset (``natural``, ``infrared``, ``shortwave``). Bands are named by number (from 1), name
    or role. ``limits``: ``auto``, ``type``, ``minmax``, ``percentile:low,high``,
    ``deviation:n``, ``fixed:low,high`` or a pair; one, or a list with one per channel, in
    physical values. ``shared`` finds one pair from all displayed bands; ``limits_from`` is
    ``image`` or ``view``. ``classes`` maps a value to (colour, label). ``nodata_when`` hides a
    pixel when ``any`` displayed band is invalid or only when ``all`` are; ``nodata_color``
    (``#rrggbb``) paints what is hidden inside the raster. ``resample``: ``nearest``, ``area`` or
    ``majority``; None takes ``area`` to shrink and ``nearest`` to enlarge. ``exact`` asks for
    limits from every pixel, however many there are.

    >>> Look(channels="nir,red,green", limits="percentile:2,98").channels
    ('nir', 'red', 'green')
    >>> Look(limits="percentile:98,2")
    Traceback (most recent call last):
    ...
    spectrane.model.errors.LookError: limits 'percentile:98,2': expected 0 <= low < high <= 100
    """

    channels: Channels | None = None
    limits: Any = "auto"
    shared: bool = False
    limits_from: str = "image"
    curve: str = "linear"
    invert: bool = False
    classes: Mapping[float, Class] = field(default_factory=dict)
    nodata_when: str | None = None
    nodata_color: str | None = None
    resample: str | None = None
    exact: bool = False

    def __post_init__(self) -> None:
        """Check every field at once, so that a look that exists can be carried out."""
        object.__setattr__(self, "channels", _parsed_channels(self.channels))
        object.__setattr__(self, "limits", _parsed_limit_list(self.limits))
        parse_setting("curve", self.curve, CURVE_KINDS)
        _check_choice("limits_from", self.limits_from, ("image", "view"))
        if self.nodata_when is not None:
            _check_choice("nodata_when", self.nodata_when, ("any", "all"))
        if self.resample is not None:
            _check_choice("resample", self.resample, RESAMPLINGS)
        if self.nodata_color is not None:
            parse_color(self.nodata_color)
        for color, _ in self.classes.values():
            parse_color(color)

    def to_dict(self) -> dict[str, Any]:
        """Return the fields that differ from their defaults, as plain values for TOML or JSON.

        >>> Look(channels="infrared", limits=(0, 0.4)).to_dict()
        {'channels': 'infrared', 'limits': 'fixed:0,0.4'}
        """
        found: dict[str, Any] = {}
        for item in fields(self):
            value = getattr(self, item.name)
            if item.name == "limits":
                texts = [str(setting) for setting in value]
                value = texts[0] if len(texts) == 1 else texts
            if item.name == "classes":
                value = {f"{k:g}": list(v) for k, v in sorted(value.items())}
            if value not in (item.default, {}, None):
                found[item.name] = list(value) if isinstance(value, tuple) else value
        return found

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> Look:
        """Read what ``to_dict`` returns; LookError names an unknown field and the nearest one."""
        known = [item.name for item in fields(cls)]
        for name in given:
            if name not in known:
                raise LookError(f"look: no field {name!r}{nearest(name, known)}")
        changes = dict(given)
        if isinstance(changes.get("channels"), list):
            changes["channels"] = tuple(changes["channels"])
        if "classes" in changes:
            changes["classes"] = {
                float(value): (found[0], found[1] if len(found) > 1 else "")
                for value, found in changes["classes"].items()
            }
        return cls(**changes)


def _parsed_channels(given: Any) -> Channels | None:
    if given is None or (isinstance(given, str) and given in PRESETS):
        return given
    parts = given.split(",") if isinstance(given, str) else given
    parts = (parts,) if isinstance(parts, int) else tuple(parts)
    names = tuple(part.strip() if isinstance(part, str) else int(part) for part in parts)
    if len(names) not in (1, 3, 4) or not all(str(name) for name in names):
        raise LookError(
            f"channels {given!r}: expected 1 band (grey), 3 (red, green, blue), 4 (and alpha), "
            f"or one of {', '.join(PRESETS)}"
        )
    return names


def _parsed_limit_list(given: Any) -> tuple[Setting, ...]:
    many = isinstance(given, tuple | list) and not _is_pair(given)
    settings = tuple(parse_limits(item) for item in (given if many else [given]))
    if len(settings) not in (1, 3, 4):
        raise LookError(f"limits: expected one, or one per channel (3 or 4), not {len(settings)}")
    return settings


def _check_choice(what: str, given: str, choices: tuple[str, ...]) -> None:
    if given not in choices:
        raise LookError(f"{what} {given!r}: expected one of {', '.join(choices)}")


def parse_color(text: str) -> tuple[int, int, int, int]:
    """Read ``#rrggbb`` or ``#rrggbbaa`` into four numbers of 0 to 255.

    >>> parse_color("#ff8000")
    (255, 128, 0, 255)
    """
    if not isinstance(text, str) or not re.fullmatch(r"#[0-9a-fA-F]{6}([0-9a-fA-F]{2})?", text):
        raise LookError(f"colour {text!r}: expected #rrggbb or #rrggbbaa")
    digits = text[1:] if len(text) == 9 else text[1:] + "ff"
    red, green, blue, alpha = bytes.fromhex(digits)
    return red, green, blue, alpha
