"""Looks: how a raster is to be shown, as a small declaration that never touches the data."""

from __future__ import annotations

import math
import os
import re
from collections.abc import Mapping
from dataclasses import dataclass, field, fields
from itertools import pairwise
from typing import Any, TypeAlias

from spectrane.model.band import BandName
from spectrane.model.errors import AccessError, ExistingFile, LookError, MissingFile, nearest
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
    "window": (2, ()),
    "symmetric": (1, (100.0,)),
}
CURVE_KINDS: dict[str, tuple[int, tuple[float, ...]]] = {
    "linear": (0, ()),
    "sqrt": (0, ()),
    "square": (0, ()),
    "gamma": (1, ()),
    "log": (1, (3.0,)),
    "asinh": (1, (0.1,)),
    "logistic": (1, (8.0,)),
    "equalise": (0, ()),
}
# Name -> centre and width in Hounsfield units, as radiology uses them.
WINDOWS: dict[str, tuple[float, float]] = {
    "abdomen": (60.0, 400.0),
    "angio": (300.0, 600.0),
    "bone": (480.0, 2500.0),
    "brain": (40.0, 80.0),
    "liver": (90.0, 150.0),
    "lung": (-600.0, 1500.0),
    "mediastinum": (50.0, 350.0),
    "soft tissue": (50.0, 400.0),
    "stroke": (35.0, 35.0),
    "subdural": (75.0, 215.0),
}


@dataclass(frozen=True)
class Setting:
    """A named rule with its parameters, as in ``percentile:2,98``.

    ``name`` is what a window of the file is called, its number or explanation; ``preset`` what one
    that has numbers was, in case the file calls one so too.
    """

    kind: str
    parameters: tuple[float, ...] = ()
    name: str = ""
    preset: str = field(default="", compare=False)

    def __str__(self) -> str:
        """Write it as it is given: a window by its name, which a file may have for its own."""
        if self.name or self.preset:
            return f"window:{self.name or self.preset}"
        texts = [f"{value:.10g}" for value in self.parameters]
        if self.kind == "points":
            texts = [f"{u}/{t}" for u, t in zip(texts[::2], texts[1::2], strict=True)]
        numbers = ",".join(texts)
        return f"{self.kind}:{numbers}" if numbers else self.kind


def parse_setting(
    what: str, text: str, kinds: Mapping[str, tuple[int, tuple[float, ...]]]
) -> Setting:
    """Read ``name`` or ``name:number,number``, or raise LookError with what is possible.

    >>> parse_setting("limits", "percentile:2,98", LIMIT_KINDS).parameters
    (2.0, 98.0)
    """
    kind, _, tail = str(text).strip().partition(":")
    if kind not in kinds:
        raise LookError(f"{what} {text!r}: expected one of {', '.join(sorted(kinds))}"
                        f"{_nearest_kind(kind, kinds)}")  # fmt: skip
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


def _nearest_kind(kind: str, kinds: Mapping[str, Any]) -> str:
    found = nearest(kind, kinds)
    return found if "did you mean" in found else ""


def parse_curve(text: str) -> Setting:
    """Read a curve: a name with its numbers, or ``points:u1/t1,u2/t2,…``.

    >>> str(parse_curve("log")), str(parse_curve("points:0/0,0.5/0.8,1/1"))
    ('log:3', 'points:0/0,0.5/0.8,1/1')
    """
    kind, _, tail = str(text).strip().partition(":")
    if kind == "points":
        return Setting("points", _points(text, tail))
    setting = parse_setting("curve", text, CURVE_KINDS | {"points": (0, ())})
    if setting.parameters and not setting.parameters[0] > 0:
        raise LookError(f"curve {text!r}: the number must be above 0")
    return setting


def _points(text: str, tail: str) -> tuple[float, ...]:
    try:
        pairs = [tuple(map(float, part.split("/"))) for part in tail.split(",")]
    except ValueError:
        pairs = []
    if len(pairs) < 2 or any(len(pair) != 2 for pair in pairs):
        raise LookError(f"curve {text!r}: expected points:u1/t1,u2/t2,… with two points or more")
    if not all(0 <= value <= 1 for pair in pairs for value in pair):
        raise LookError(f"curve {text!r}: u and t must lie between 0 and 1")
    if any(later[0] <= before[0] for before, later in pairwise(pairs)):
        raise LookError(f"curve {text!r}: u must grow from point to point")
    return tuple(value for pair in pairs for value in pair)


def parse_limits(given: Any) -> Setting:
    """Read limits: a text such as ``percentile:2,98``, or a pair (low, high).

    >>> str(parse_limits((0, 3000)))
    'fixed:0,3000'
    """
    if isinstance(given, Setting):
        return given
    if isinstance(given, tuple | list) and len(given) == 2:
        given = f"fixed:{given[0]!r},{given[1]!r}"
    kind, _, name = str(given).strip().partition(":")
    if kind == "window" and name.strip() and "," not in name:
        return _window_by_name(name.strip())
    setting = parse_setting("limits", str(given), LIMIT_KINDS)
    numbers = setting.parameters
    if setting.kind == "symmetric" and not 0 < numbers[0] <= 100:
        raise LookError(f"limits {given!r}: expected a percentile above 0 and up to 100")
    if setting.kind == "window" and not numbers[1] > 0:
        raise LookError(f"limits {given!r}: a window's width must be above 0")
    if setting.kind == "percentile" and not 0 <= numbers[0] < numbers[1] <= 100:
        raise LookError(f"limits {given!r}: expected 0 <= low < high <= 100")
    if setting.kind == "deviation" and not numbers[0] > 0:
        raise LookError(f"limits {given!r}: the number of deviations must be above 0")
    return setting


def _window_by_name(name: str) -> Setting:
    """Return a window by name: ``window:lung``, ``window:2``; a preset with its numbers.

    Which one the file itself calls so is known only where it is drawn.
    """
    numbered = name.isdecimal()  # the file's own: presets need not even be read
    preset = None if numbered else presets().get(name.lower().replace("_", " "))
    return Setting("window", (), name) if preset is None else Setting("window", preset, "", name)


def presets() -> dict[str, tuple[float, float]]:
    """Return the windows there are whatever the file: radiology's, and the user's own."""
    return WINDOWS | own_windows()


def own_windows() -> dict[str, tuple[float, float]]:
    """Return the windows of the user's configuration: ``windows.toml`` in Spectrane's folder.

    Each is ``name = [centre, width]``; they win over those built in.
    """
    import platformdirs

    path = os.path.join(platformdirs.user_config_dir("spectrane", appauthor=False), "windows.toml")
    if not os.path.isfile(path):
        return {}
    import tomllib

    try:
        with open(path, "rb") as file:
            found = tomllib.load(file)
        return {str(k).lower(): (float(c), float(w)) for k, (c, w) in found.items()}
    except (OSError, ValueError, TypeError) as error:
        raise LookError(f"{path}: expected lines of name = [centre, width]: {error}") from error


def _is_pair(given: Any) -> bool:
    return len(given) == 2 and all(isinstance(v, int | float) for v in given)


@dataclass(frozen=True)
class Look:
    """How to show a raster. Every field has a default; None means "find what fits".

    ``channels``: one band in grey; three as red, green, blue; four with the last as alpha; or a
    preset (``natural``, ``infrared``, ``shortwave``). Bands are named by number (from 1), name
    or role. ``limits``: ``auto``, ``type``, ``minmax``, ``percentile:low,high``,
    ``deviation:n``, ``fixed:low,high`` or a pair, ``window:centre,width``,
    ``window:NAME`` (the file's own by number or explanation, else a preset such as ``lung``),
    ``symmetric[:percentile]``; one, or a list with one per channel, in physical values.
    ``shared`` finds one pair from all displayed bands; ``limits_from`` is ``image``, ``view``, or
    a region: a mapping with ``bounds``, ``rows``/``columns``, or ``polygon`` (GeoJSON).
    ``curve``: ``linear``, ``sqrt``, ``square``, ``gamma:g``, ``log:decades``, ``asinh:share``,
    ``logistic:s``, ``equalise``, ``points:u1/t1,u2/t2,…``. ``colormap`` is a name or a Colormap,
    for one band; ``invert`` draws a negative, None as the file means it. On top, in this
    order: ``local_contrast`` (a clip limit; 0 is none), ``sharpen`` (radius in picture pixels,
    amount), ``brightness`` (-1 to 1), ``contrast`` (1 is as it is), ``saturation``.
    ``classes`` maps a value to (colour, label). ``nodata_when`` hides a
    pixel when ``any`` displayed band is invalid or only when ``all`` are; ``nodata_color``
    (``#rrggbb``) paints what is hidden inside the raster. ``resample``: ``nearest``, ``area``,
    ``majority``, ``bilinear``, ``cubic``, ``lagrange`` or ``lanczos``; None takes ``area`` to
    shrink and ``nearest`` to enlarge. ``exact`` asks for limits from every pixel, however many.

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
    limits_from: Any = "image"
    curve: str = "linear"
    invert: bool | None = None
    colormap: Any = None
    classes: Mapping[float, Class] = field(default_factory=dict)
    nodata_when: str | None = None
    nodata_color: str | None = None
    local_contrast: float = 0.0
    sharpen: tuple[float, float] | None = None
    brightness: float = 0.0
    contrast: float = 1.0
    saturation: float = 1.0
    resample: str | None = None
    exact: bool = False

    def __post_init__(self) -> None:
        """Check every field at once, so that a look that exists can be carried out."""
        object.__setattr__(self, "channels", _parsed_channels(self.channels))
        object.__setattr__(self, "limits", _parsed_limit_list(self.limits))
        object.__setattr__(self, "curve", str(parse_curve(self.curve)))
        if isinstance(self.limits_from, str):
            _check_choice("limits_from", self.limits_from, ("image", "view"))
        self._check_adjustments()
        if self.nodata_when is not None:
            _check_choice("nodata_when", self.nodata_when, ("any", "all"))
        if self.resample is not None:
            _check_choice("resample", self.resample, RESAMPLINGS)
        if self.nodata_color is not None:
            parse_color(self.nodata_color)
        for color, _ in self.classes.values():
            parse_color(color)

    def _check_adjustments(self) -> None:
        if self.sharpen is not None:
            pair = self.sharpen if isinstance(self.sharpen, tuple | list) else (1.0, self.sharpen)
            if len(pair) != 2 or not (pair[0] > 0 and math.isfinite(pair[0] + pair[1])):
                raise LookError(f"sharpen {self.sharpen!r}: expected (radius above 0, amount)")
            object.__setattr__(self, "sharpen", (float(pair[0]), float(pair[1])))
        bounds = {"brightness": (-1.0, 1.0), "contrast": (0.0, 100.0),
                  "saturation": (0.0, 100.0), "local_contrast": (0.0, 100.0)}  # fmt: skip
        for name, (low, high) in bounds.items():
            value = getattr(self, name)
            if isinstance(value, bool) or not isinstance(value, int | float):
                raise LookError(f"{name} {value!r}: expected a number")
            if not low <= value <= high:
                raise LookError(f"{name} {value!r}: expected {low:g} to {high:g}")

    @property
    def adjusted(self) -> bool:
        """Whether anything is changed after limits and curve."""
        plain = (self.local_contrast, self.sharpen, self.brightness, self.contrast)
        return plain != (0.0, None, 0.0, 1.0) or self.saturation != 1.0

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
            if item.name == "colormap" and value is not None and not isinstance(value, str):
                value = value.to_dict()
            if value not in (item.default, {}, None):
                found[item.name] = list(value) if isinstance(value, tuple) else value
        return found

    def save(self, path: str | os.PathLike[str], *, overwrite: bool = False) -> None:
        """Write a look file (``scene.look.toml``), to be applied to as many rasters as you like.

        Raises ExistingFile where it is there and ``overwrite`` is false.
        """
        import tomlkit

        name = os.fspath(path)
        if os.path.exists(name) and not overwrite:
            raise ExistingFile(f"{name}: exists already; overwrite (--overwrite) replaces it")
        partial = os.path.join(os.path.dirname(name), f".{os.path.basename(name)}.partial")
        try:
            with open(partial, "w", encoding="utf-8") as file:
                file.write(tomlkit.dumps(self.to_dict()))
            os.replace(partial, name)
        except OSError as error:
            raise AccessError(f"{name}: cannot be written: {error.strerror}") from error

    @classmethod
    def load(cls, path: str | os.PathLike[str]) -> Look:
        """Read a look file. Raises LookError: what is wrong in it, and the nearest known field."""
        import tomllib

        name = os.fspath(path)
        try:
            with open(path, "rb") as file:
                return cls.from_dict(tomllib.load(file))
        except FileNotFoundError as error:
            raise MissingFile(f"{name}: no such look file") from error
        except OSError as error:
            raise AccessError(f"{name}: cannot be read: {error.strerror}") from error
        except tomllib.TOMLDecodeError as error:
            raise LookError(f"{name}: not TOML: {error}") from error
        except (LookError, TypeError, ValueError, IndexError) as error:
            raise LookError(f"{name}: {error}") from error

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
