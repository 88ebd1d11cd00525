"""The libraries that are handed over to, imported when something is."""

from __future__ import annotations

import importlib
from typing import Any

from spectrane.model.errors import AccessError


def library(name: str, extra: str) -> Any:
    """Return a library. Raises AccessError, which says how to install it, where it is not there."""
    try:
        return importlib.import_module(name)
    except ImportError as error:
        base = name.split(".")[0]
        raise AccessError(
            f"this needs {base}, which is not installed: pip install 'spectrane[{extra}]'"
        ) from error
