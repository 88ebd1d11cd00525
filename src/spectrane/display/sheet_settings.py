"""What a finished sheet is asked to be: words, paper and scale, and where its elements stand."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import asdict, fields
from typing import Any, Literal, get_args

from spectrane.kernels.records import record
from spectrane.model.errors import LookError, nearest
from spectrane.model.frozen import FrozenMapping

PAPERS: dict[str, tuple[float, float]] = {
    "A0": (841, 1189), "A1": (594, 841), "A2": (420, 594), "A3": (297, 420), "A4": (210, 297),
    "A5": (148, 210), "A6": (105, 148), "letter": (215.9, 279.4), "legal": (215.9, 355.6),
    "tabloid": (279.4, 431.8),
}  # fmt: skip
"""Paper sizes upright, (width, height) in mm: ISO 216, and those of ANSI/ASME Y14.1."""
Orientation = Literal["auto", "portrait", "landscape"]
ORIENTATIONS: tuple[Orientation, ...] = get_args(Orientation)
Coordinates = Literal["map", "degrees", "none"]
COORDINATES: tuple[Coordinates, ...] = get_args(Coordinates)
"""What stands along the frame: the map's own coordinates, longitude and latitude, or nothing."""
ELEMENTS = ("legend", "scale", "north", "inset", "notes", "picture")
"""What stands beside or on the map, in the order it is set out."""
CORNERS = ("top-left", "top-right", "bottom-left", "bottom-right")
"""Corners of the map's frame in which an element may stand."""
INSETS = ("auto", "globe", "none")
"""Insets that are no file."""
_WHERE = ("side", *CORNERS, "none")
_LARGEST = 5000.0


@record(frozen=True)
class SheetSettings:
    """A sheet's words, paper and scale.

    ``sources`` and ``date`` None: what the layers say. ``paper`` is a name of ``PAPERS`` or
    ``WIDTHxHEIGHT`` in mm; ``margin`` mm. ``scale`` is the n of 1:n; None takes the largest round
    one at which all fits. ``coordinates`` is ``map``, ``degrees`` or ``none``; ``lines`` draws
    them over the map. ``put`` says where elements stand: ``side``, a corner of the map, mm from
    the sheet's upper left corner as ``x,y``, or ``none``. ``inset`` is ``auto``, ``globe``,
    ``none`` or a raster that the map is shown on; ``picture`` a file of your own. ``across`` is
    how many of several maps stand in a row. ``area`` is what is shown, in ``area_crs`` or the
    map's own system; or what has room at the ``scale`` around a ``center``; ``covers`` ``union``
    shows all that the layers cover, not the lowest alone. ``dots`` per inch are those of pictures.
    Raises LookError for what cannot be.

    >>> SheetSettings(title="Eelgrass", scale="1:25000").scale
    25000.0
    """

    title: str = ""
    subtitle: str = ""
    notes: str = ""
    sources: str | None = None
    date: str | None = None
    paper: str = "A4"
    orientation: Orientation = "auto"
    margin: float = 12.0
    scale: float | str | None = None
    coordinates: Coordinates = "map"
    lines: bool = False
    put: Mapping[str, str] = FrozenMapping()
    inset: str = "auto"
    picture: str | None = None
    separate: bool = False
    across: int | None = None
    area: tuple[float, float, float, float] | None = None
    area_crs: str | None = None
    center: tuple[float, float] | None = None
    covers: str = "bottom"
    dots: int = 200

    def __post_init__(self) -> None:
        """Check words and numbers."""
        set_ = object.__setattr__
        for name, known in (("orientation", ORIENTATIONS), ("coordinates", COORDINATES)):
            if getattr(self, name) not in known:
                raise LookError(
                    f"{name} {getattr(self, name)!r}{nearest(getattr(self, name), known)}"
                )
        set_(self, "scale", scale_of(self.scale))
        set_(self, "margin", _number("margin", self.margin, 0, 200))
        set_(self, "dots", int(_number("dots", self.dots, 30, 1200)))
        if self.across is not None:
            set_(self, "across", int(_number("across", self.across, 1, 12)))
        for name, where in self.put.items():
            _check_put(name, where)
        set_(self, "put", FrozenMapping(self.put))
        if self.area is not None:
            set_(self, "area", _numbers("area", self.area, "x min, y min, x max, y max"))
        if self.center is not None:
            set_(self, "center", _numbers("center", self.center, "x, y"))
            if self.scale is None or self.area is not None:
                raise LookError("center: needs a scale such as 1:25000, and no area")
        wide, high = paper_size(self.paper)
        if 2 * self.margin > min(wide, high) - 30:
            raise LookError(f"margin {self.margin:g}: {self.paper} is {wide:g} x {high:g} mm, and "
                            "30 mm at least are for the map")  # fmt: skip

    @classmethod
    def from_dict(cls, given: Mapping[str, Any]) -> SheetSettings:
        """Return the settings of a ``[sheet]`` table. Raises LookError for a key there is not.

        >>> SheetSettings.from_dict({"paper": "A3"}).paper
        'A3'
        """
        known = [field.name for field in fields(cls)]
        for name, value in given.items():
            if name not in known:
                raise LookError(f"no key {name} of a sheet{nearest(name, known)}")
            texts = name in ("title", "subtitle", "notes", "sources", "date", "paper", "inset",
                             "picture", "area_crs", "covers")  # fmt: skip
            flags = name in ("lines", "separate")
            if (texts and not isinstance(value, str)) or (flags and not isinstance(value, bool)):
                raise LookError(
                    f"{name} {value!r}: expected {'a text' if texts else 'true or false'}"
                )
            if name == "put" and not isinstance(value, Mapping):
                raise LookError(f"put {value!r}: expected a table such as {{legend = 'top-left'}}")
        return cls(**given)

    def to_dict(self) -> dict[str, Any]:
        """Return what differs from a sheet of which nothing is said, as TOML holds it.

        >>> SheetSettings(title="Eelgrass", put={"north": "none"}).to_dict()
        {'title': 'Eelgrass', 'put': {'north': 'none'}}
        """
        plain = SheetSettings()
        found = {name: value for name, value in asdict(self).items()
                 if value != getattr(plain, name)}  # fmt: skip
        for name in sorted(found.keys() & {"area", "center"}):
            found[name] = list(found[name])
        return found | ({"put": dict(self.put)} if self.put else {})

    def where(self, element: str) -> str:
        """Return where an element stands: ``side`` where nothing is said.

        >>> SheetSettings(put={"north": "top-left"}).where("north")
        'top-left'
        """
        return self.put.get(element, "side")


def paper_size(text: str) -> tuple[float, float]:
    """Return (width, height) in mm of paper by its name, upright, or by its sides as said.

    >>> paper_size("a4"), paper_size("300x200")
    ((210, 297), (300.0, 200.0))
    """
    for name, sides in PAPERS.items():
        if text.lower() == name.lower():
            return sides
    sides_said = re.fullmatch(r"\s*(\d+(?:\.\d+)?)\s*x\s*(\d+(?:\.\d+)?)\s*(?:mm)?\s*", text)
    if sides_said is None:
        raise LookError(
            f"paper {text!r}: expected {', '.join(PAPERS)}, or WIDTHxHEIGHT in mm such as 300x200"
        )
    wide, high = float(sides_said[1]), float(sides_said[2])
    if not (50 <= wide <= _LARGEST and 50 <= high <= _LARGEST):
        raise LookError(f"paper {text!r}: expected sides of 50 to {_LARGEST:g} mm")
    return wide, high


def scale_of(given: Any) -> float | None:
    """Return the n of a scale said as ``1:n``, as ``m:n`` or as n. Raises LookError for none.

    >>> scale_of("1:25 000"), scale_of("2:1"), scale_of(5000)
    (25000.0, 0.5, 5000.0)
    """
    if given is None:
        return None
    said = re.sub(r"[\s\u202f\u00a0]", "", str(given))
    first, colon, last = said.partition(":")
    try:
        number = float(last) / float(first) if colon else float(said)
    except (ValueError, ZeroDivisionError):
        number = math.nan
    if isinstance(given, bool) or not (0 < number < 1e12):
        raise LookError(f"scale {given!r}: expected such as 1:25000")
    return number


def millimetres_of(where: str) -> tuple[float, float] | None:
    """Return mm from the sheet's upper left corner, where a place is said so; None for a word.

    >>> millimetres_of("20,35.5"), millimetres_of("top-left")
    ((20.0, 35.5), None)
    """
    said = re.fullmatch(r"\s*(-?\d+(?:\.\d+)?)\s*,\s*(-?\d+(?:\.\d+)?)\s*", where)
    return None if said is None else (float(said[1]), float(said[2]))


def _check_put(name: Any, where: Any) -> None:
    if name not in ELEMENTS:
        raise LookError(f"put: no element {name!r}{nearest(str(name), ELEMENTS)}")
    if not isinstance(where, str) or (where not in _WHERE and millimetres_of(where) is None):
        raise LookError(
            f"put {name}={where!r}: expected {', '.join(_WHERE)}, or x,y in mm from the sheet's "
            "upper left corner"
        )


def _number(name: str, given: Any, least: float, most: float) -> float:
    fine = isinstance(given, int | float) and not isinstance(given, bool)
    if not fine or not least <= given <= most:
        raise LookError(f"{name} {given!r}: expected {least:g} to {most:g}")
    return float(given)


def _numbers(name: str, given: Any, expected: str) -> tuple[float, ...]:
    try:
        found = tuple(float(one) for one in given)
    except (TypeError, ValueError):
        found = ()
    if len(found) != expected.count(",") + 1 or not all(map(math.isfinite, found)):
        raise LookError(f"{name} {given!r}: expected {expected}")
    return found
