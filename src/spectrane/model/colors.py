"""Colours as people write them."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any, TypeAlias

import numpy as np
from numpy.typing import NDArray

from spectrane.model.errors import LookError
from spectrane.model.frozen import FrozenMapping
from spectrane.model.rules import format_number

Class: TypeAlias = tuple[str, str]
"""A class's colour (``#rrggbb``) and label."""
Classes: TypeAlias = FrozenMapping[float, Class]
"""Classes by value, the least first."""


THEIRS = "matplotlib:"
"""Before the name of a colour map that Matplotlib has."""


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


def color_text(rgba: Any) -> str:
    """Return ``#rrggbb`` of three or four numbers, or ``#rrggbbaa`` where not opaque.

    >>> color_text((255, 128, 0, 255)), color_text((0, 0, 0, 0))
    ('#ff8000', '#00000000')
    """
    levels = bytes(int(part) for part in rgba)
    return "#" + (levels[:3] if len(levels) < 4 or levels[3] == 255 else levels).hex()


def rgba_bytes(rgba: NDArray[np.float64]) -> NDArray[np.uint8]:
    """Return colours of 0 to 1 as bytes of 0 to 255, each the nearest.

    >>> rgba_bytes(np.array([0.0, 0.499, 1.0])).tolist()
    [0, 127, 255]
    """
    return np.floor(rgba * 255 + 0.5).astype(np.uint8)


def parse_classes(given: Any) -> Classes:
    """Return classes, by value, of a mapping from numbers to a colour or (colour, label).

    Raises LookError for a value that is no number, and for what is no colour.

    >>> parse_classes({2: ("#00ff00", "kelp"), 1: "#ff0000"})
    {1: ('#ff0000', ''), 2: ('#00ff00', 'kelp')}
    """
    if not isinstance(given, Mapping):
        raise LookError(f"classes {given!r}: expected {{value: (colour, label)}}")
    classes = {
        _class_value(value): _class(value, appearance) for value, appearance in given.items()
    }
    return FrozenMapping(sorted(classes.items()))


def _class_value(value: Any) -> float:
    number = value.item() if isinstance(value, np.generic) else value
    if isinstance(number, str):  # as TOML and JSON write keys
        try:
            number = float(number)
        except ValueError:
            number = None
    if not isinstance(number, int | float) or number != number:
        raise LookError(f"classes: {value!r} is not a number; expected {{value: (colour, label)}}")
    return int(number) if float(number).is_integer() else number


def _class(value: Any, given: Any) -> Class:
    parts = (given,) if isinstance(given, str) else given
    if not isinstance(parts, tuple | list) or not 1 <= len(parts) <= 2:
        raise LookError(f"classes: {value!r}: expected a colour or (colour, label), not {given!r}")
    parse_color(parts[0])
    label = parts[1] if len(parts) > 1 else ""
    return parts[0], "" if label is None else str(label)


def classes_table(classes: Mapping[float, Class]) -> dict[str, list[str]]:
    """Return classes as TOML and JSON hold them: keys are text there."""
    return {format_number(value): list(appearance) for value, appearance in classes.items()}
