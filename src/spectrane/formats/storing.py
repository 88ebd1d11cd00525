"""What writers of pictures share: which data such formats hold."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.model.errors import FormatError
from spectrane.model.source import Source


def check_picture(source: Source, name: str, types: Sequence[Any]) -> None:
    """Raise FormatError for a type or a number of bands that picture formats have no place for."""
    kept = [np.dtype(kind).name for kind in types]
    if source.dtype.name not in kept:
        raise FormatError(
            f"{name} holds {' or '.join(kept)}, not {source.dtype}; say dtype={kept[0]!r} and "
            "how to rescale (--type, --rescale)"
        )
    if len(source.bands) not in (1, 3):
        raise FormatError(
            f"{name} holds 1 or 3 bands, not {len(source.bands)}; choose them (--bands)"
        )
