"""A few words for objects that hold much: what they are, and what is not as it always is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import MISSING, fields
from typing import Any

import numpy as np

_LONGEST, _TEXT, _MANY = 280, 60, 4


def short_repr(self: Any) -> str:
    """Return a dataclass's name and the fields that differ from their defaults, in one line.

    Arrays are told by type and shape, long sequences by their count.
    """
    said = []
    for field in fields(self):
        value = getattr(self, field.name)
        plain = field.default if field.default_factory is MISSING else field.default_factory()
        if field.repr and not _same(value, plain):
            said.append(f"{field.name}={_value(value)}")
    text = " ".join(f"{type(self).__name__}({', '.join(said)})".split())
    return text if len(text) <= _LONGEST else text[: _LONGEST - 2] + "…)"


def _same(value: Any, plain: Any) -> bool:
    if plain is MISSING or isinstance(value, np.ndarray):
        return False
    try:
        return bool(value == plain)
    except ValueError:
        return False


def _value(value: Any) -> str:
    if isinstance(value, np.ndarray):
        return f"<{value.dtype} {value.shape}>"
    if isinstance(value, tuple | list | Mapping) and len(value) > _MANY:
        return f"<{len(value)} of them>"
    if isinstance(value, tuple | list):
        inner = ", ".join(map(_value, value))
        return f"({inner})" if isinstance(value, tuple) else f"[{inner}]"
    text = repr(value)
    return text if len(text) <= _TEXT else text[: _TEXT - 1] + "…"
