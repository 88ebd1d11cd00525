"""Looks: how a raster is to be shown, as a small declaration that never touches the data."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import field, fields, replace
from typing import TYPE_CHECKING, Any, Literal, TypeAlias, get_args

import numpy as np

from spectrane.kernels.records import record
from spectrane.model.addresses import has_ending
from spectrane.model.band import BandName
from spectrane.model.colormaps import Colormap, colormap_of, colormap_text
from spectrane.model.colors import Class, Classes, classes_table, parse_classes, parse_color
from spectrane.model.curves import Curve, Linear
from spectrane.model.errors import LookError, nearest
from spectrane.model.frozen import FrozenMapping, frozen, thawed
from spectrane.model.html import in_row, table_html
from spectrane.model.limits import Auto, Limits, is_pair, limits_list
from spectrane.model.regular_files import ReadingAs, given_name, read_toml
from spectrane.model.resampling import RESAMPLINGS, Resampling
from spectrane.model.roles import PRESETS
from spectrane.model.shortly import short_repr
from spectrane.model.targets import Target, written_to

if TYPE_CHECKING:
    from spectrane.model.addresses import FileLike
    from spectrane.model.given import Given

Channels: TypeAlias = str | int | tuple[BandName, ...]
LimitsGiven: TypeAlias = str | Limits | tuple[float, float]
_LARGEST = 16 << 20
ADJUSTMENTS = ("local_contrast", "sharpen", "brightness", "contrast", "saturation")
"""Fields that change levels after limits and curve."""
FITTING = "auto"
"""The colour map that is chosen by what a band means."""
LimitsFrom = Literal["image", "view"]
LIMITS_FROM: tuple[LimitsFrom, ...] = get_args(LimitsFrom)
NoDataWhen = Literal["any", "all"]
NODATA_WHEN: tuple[NoDataWhen, ...] = get_args(NoDataWhen)


@record(frozen=True, kw_only=True)
class Look:
    """How to show a raster. Every field has a default; None means "find what fits".

    ``channels``: one band in grey; three as red, green, blue; four with the last as alpha; or a
    preset (``natural``, ``infrared``, ``shortwave``). Bands are named by number (from 1), name
    or role. ``limits``: a rule of ``model.limits``, its text (``percentile:2,98``, ``window:lung``)
    or a pair (low, high); one, or a list with one per channel, in physical values. ``shared`` finds
    one pair from all displayed bands; ``limits_from`` is ``image``, ``view``, or a region: a
    mapping with ``bounds``, ``rows``/``columns``, or ``polygon`` (GeoJSON). ``curve``: one of
    ``model.curves``, or its text (``gamma:1.8``). ``colormap``, for one band: a name or a Colormap,
    or ``auto``; ``invert`` draws a negative, None as the file means it. On top, in this
    order: ``local_contrast`` (a clip limit; 0 is none), ``sharpen`` (radius in picture pixels,
    amount), ``brightness`` (-1 to 1), ``contrast`` (1 is as it is), ``saturation``.
    ``classes`` maps a value to a colour or (colour, label). ``nodata_when`` hides a
    pixel when ``any`` displayed band is invalid or only when ``all`` are; ``nodata_color``
    (``#rrggbb``) paints what is hidden inside the raster. ``resample``: one of
    ``model.resampling``; None takes ``area`` to shrink and ``nearest`` to enlarge. ``exact`` asks
    for limits from every pixel, however many.

    Looks are equal by what they say, and can be keys of a dictionary. Raises LookError.

    >>> look = Look(channels="nir,red,green", limits="percentile:2,98")
    >>> look.channels, look.limits
    (('nir', 'red', 'green'), (Percentile(low=2.0, high=98.0),))
    >>> Look(limits="percentile:98,2")
    Traceback (most recent call last):
    ...
    spectrane.model.errors.LookError: limits 'percentile:98,2': expected 0 <= low < high <= 100
    """

    channels: Any = None  # Channels | None from then on; likewise below
    limits: Any = Auto()
    shared: bool = False
    limits_from: Any = "image"
    curve: Any = Linear()
    invert: bool | None = None
    colormap: Any = None
    classes: Mapping[float, Class] = field(default_factory=FrozenMapping)
    nodata_when: NoDataWhen | None = None
    nodata_color: str | None = None
    local_contrast: float = 0.0
    sharpen: tuple[float, float] | None = None
    brightness: float = 0.0
    contrast: float = 1.0
    saturation: float = 1.0
    resample: Resampling | None = None
    exact: bool = False

    if TYPE_CHECKING:  # what is given in one of several forms is held in one

        def __init__(
            self, *, channels: str | int | Sequence[BandName] | None = None,
            limits: LimitsGiven | Sequence[LimitsGiven] = "auto", shared: bool = False,
            limits_from: LimitsFrom | Mapping[str, object] = "image",
            curve: Curve | str = "linear", invert: bool | None = None,
            colormap: Colormap | str | Mapping[str, object] | None = None,
            classes: Given[float, Class | str | tuple[str, str]] = ...,
            nodata_when: NoDataWhen | None = None, nodata_color: str | None = None,
            local_contrast: float = 0.0,
            sharpen: Sequence[float] | float | None = None, brightness: float = 0.0,
            contrast: float = 1.0, saturation: float = 1.0, resample: Resampling | None = None,
            exact: bool = False,
        ) -> None: ...  # fmt: skip

    __repr__ = short_repr

    def __post_init__(self) -> None:
        """Check every field at once, so that a look that exists can be carried out."""
        self._put(channels=_parsed_channels(self.channels), limits=limits_list(self.limits),
                  curve=Curve.of(self.curve), classes=parse_classes(self.classes),
                  limits_from=_limits_from(self.limits_from))  # fmt: skip
        if self.colormap is not None and self.colormap != FITTING:
            self._put(colormap=colormap_of(self.colormap))
        self._check_adjustments()
        for name, choices in (("nodata_when", NODATA_WHEN), ("resample", RESAMPLINGS)):
            if getattr(self, name) is not None:
                _check_choice(name, getattr(self, name), choices)
        if self.nodata_color is not None:
            parse_color(self.nodata_color)

    def _put(self, **values: Any) -> None:
        for name, value in values.items():
            object.__setattr__(self, name, value)

    def _check_adjustments(self) -> None:
        if self.sharpen is not None:
            given: Any = self.sharpen
            pair = given if isinstance(given, list | tuple) else (1.0, given)
            if not is_pair(pair) or not (pair[0] > 0 and math.isfinite(pair[0] + pair[1])):
                raise LookError(f"sharpen {self.sharpen!r}: expected (radius above 0, amount)")
            self._put(sharpen=(float(pair[0]), float(pair[1])))
        bounds = {"brightness": (-1.0, 1.0), "contrast": (0.0, 100.0),
                  "saturation": (0.0, 100.0), "local_contrast": (0.0, 100.0)}  # fmt: skip
        for name, (low, high) in bounds.items():
            value = getattr(self, name)
            if isinstance(value, bool | str) or not hasattr(value, "__float__"):
                raise LookError(f"{name} {value!r}: expected a number")
            if not low <= value <= high:
                raise LookError(f"{name} {value!r}: expected {low:g} to {high:g}")
            self._put(**{name: float(value)})

    @property
    def adjusted(self) -> bool:
        """Whether anything is changed after limits and curve."""
        plain = (self.brightness, self.contrast, self.saturation) == (0.0, 1.0, 1.0)
        return not plain or not self.pointwise

    @property
    def pointwise(self) -> bool:
        """Whether a pixel's colour depends on its own number alone, not on its neighbours'."""
        return not self.local_contrast and self.sharpen is None

    def without_neighbours(self) -> Look:
        """Return the look as it treats a pixel alone: itself where it is pointwise.

        >>> Look(sharpen=None, local_contrast=0.5).without_neighbours().pointwise
        True
        """
        return self if self.pointwise else replace(self, local_contrast=0.0, sharpen=None)

    @property
    def limits_named(self) -> bool:
        """Whether limits are said, and not left to be found."""
        return not isinstance(self.limits[0], Auto)

    def to_dict(self) -> dict[str, Any]:
        """Return the fields that differ from their defaults, as plain values for TOML or JSON.

        >>> Look(channels="infrared", limits=(0, 0.4)).to_dict()
        {'channels': 'infrared', 'limits': 'fixed:0,0.4'}
        """
        fields_said: dict[str, Any] = {}
        for item in fields(self):
            value = getattr(self, item.name)
            if value is None or value == _default(item.name):
                continue
            if item.name == "limits":
                texts = [str(rule) for rule in value]
                value = texts[0] if len(texts) == 1 else texts
            elif item.name == "curve":
                value = str(value)
            elif item.name == "classes":
                value = classes_table(value)
            elif isinstance(value, Colormap):
                value = colormap_text(value)
            fields_said[item.name] = thawed(value)
        return fields_said

    def _repr_html_(self) -> str:
        said = {name: value for name, value in self.to_dict().items() if name != "colormap"}
        rows: list[list[object]] = [[name, value] for name, value in said.items()]
        table = table_html(rows or [["everything", "as it is by itself"]], headed=False)
        swatch = "" if self.colormap is None else self.colormap._repr_html_()
        return in_row(table, swatch)

    def save(
        self, path: Target, *, overwrite: bool = False,
        storage_options: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """Write a look file (``scene.look.toml``), to be applied to as many rasters as you like.

        ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file.
        Raises ExistingFile where it is there and ``overwrite`` is false; AccessError.

        >>> import tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     Look(curve="sqrt").save(os.path.join(folder, "a.look.toml"))
        ...     os.listdir(folder)
        ['a.look.toml']
        """
        import tomlkit

        with written_to(path, usual=".look.toml", overwrite=overwrite,
                        storage_options=storage_options) as file:  # fmt: skip
            file.write(tomlkit.dumps(self.to_dict()).encode())

    @classmethod
    def load(
        cls, path: FileLike, *, storage_options: Mapping[str, Any] | None = None
    ) -> Look:  # fmt: skip
        """Read a look file: a path, an fsspec URL, bytes or an open binary file.

        Raises LookError: what is wrong in it, and the nearest known field.

        >>> import tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = os.path.join(folder, "a.look.toml")
        ...     Look(invert=True).save(path)
        ...     Look.load(path).invert
        True
        """
        table = read_toml(path, _LARGEST, LookError, "a look file", storage_options)
        with ReadingAs(given_name(path), LookError, "a look file"):
            return cls.from_dict(table)

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> Look:
        """Read what ``to_dict`` returns; LookError names an unknown field and the nearest one.

        >>> Look.from_dict({"limits": "percentile:2,98", "curve": "sqrt"}).curve
        SquareRoot()
        """
        known = [item.name for item in fields(cls)]
        for name in given:
            if name not in known:
                raise LookError(f"look: no field {name!r}{nearest(name, known)}")
        with ReadingAs("look", LookError, problem="is none"):
            return cls(**given)


def look_of(given: Any) -> Look | None:
    """Return a look, or None for none; LookError for what only looks like one.

    >>> look_of("percentile:2,98")
    Traceback (most recent call last):
    ...
    spectrane.model.errors.LookError: look 'percentile:2,98': expected a Look, such as \
Look(limits='percentile:2,98')
    """
    if given is None or isinstance(given, Look):
        return given
    if isinstance(given, str) and (given.partition(":")[0] in Limits.known):
        example = f"Look(limits={given!r})"
    elif isinstance(given, Mapping):
        example = "Look.from_dict(…)"
    elif isinstance(given, str) and has_ending(given, ".toml"):
        example = f"Look.load({given!r})"
    else:
        example = "Look(channels='natural', limits='percentile:2,98')"
    raise LookError(f"look {given!r}: expected a Look, such as {example}")


def _default(name: str) -> Any:
    return getattr(_PLAIN, name)


def _parsed_channels(given: Any) -> Channels | None:
    if given is None or (isinstance(given, str) and given in PRESETS):
        return given
    parts = given.split(",") if isinstance(given, str) else given
    parts = (parts,) if np.isscalar(parts) else tuple(parts)
    names = tuple(part.strip() if isinstance(part, str) else int(part) for part in parts)
    if len(names) not in (1, 3, 4) or not all(str(name) for name in names):
        raise LookError(
            f"channels {given!r}: expected 1 band (grey), 3 (red, green, blue), 4 (and alpha), "
            f"or one of {', '.join(PRESETS)}"
        )
    return names


def _limits_from(given: Any) -> Any:
    if isinstance(given, str):
        _check_choice("limits_from", given, LIMITS_FROM)
    return frozen(given)


def _check_choice(what: str, given: str, choices: tuple[str, ...]) -> None:
    if given not in choices:
        raise LookError(f"{what} {given!r}: expected one of {', '.join(choices)}")


_PLAIN = Look()
__all__ = ["FITTING", "LIMITS_FROM", "NODATA_WHEN", "Channels", "Class", "Classes", "Look",
           "look_of"]  # fmt: skip
