"""Mappings as callers give them."""

from __future__ import annotations

from collections.abc import Set as AbstractSet
from typing import Protocol, TypeVar

Key = TypeVar("Key", covariant=True)
Held = TypeVar("Held", covariant=True)


class Given(Protocol[Key, Held]):
    """A mapping, whose keys may be of a narrower type too."""

    def items(self) -> AbstractSet[tuple[Key, Held]]:
        """Return what is given for each key."""
