"""Windows there are whatever the file: radiology's, and the user's own."""

from __future__ import annotations

import os
from typing import Any

from spectrane.model.errors import LookError, SpectraneError
from spectrane.model.limits import Pair
from spectrane.model.regular_files import read_toml
from spectrane.model.telling import warn_caller
from spectrane.model.user_folders import settings_folder

# Name -> centre and width in Hounsfield units, as radiology uses them.
WINDOWS: dict[str, Pair] = {
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


def presets() -> dict[str, Pair]:
    """Return (centre, width) by name; the user's own win over those built in."""
    return WINDOWS | own_windows()


def own_windows() -> dict[str, Pair]:
    """Return the windows of the user's configuration: ``windows.toml`` in Spectrane's folder.

    Each is ``name = [centre, width]``. What cannot be read is passed over with a warning: a mistake
    there must not keep anything else from being drawn.
    """
    path = os.path.join(settings_folder(), "windows.toml")
    if not os.path.exists(path):
        return {}
    try:
        given = read_toml(path, 1 << 20, LookError, "a file of windows")
    except SpectraneError as error:
        _passed_over(path, f"no window of it is known: {error}")
        return {}
    presets = {}
    for name, pair in given.items():
        window = _window(pair)
        if window is None:
            _passed_over(path, f"{name} = {pair!r}: expected [centre, width above 0]")
        else:
            presets[name.lower().replace("_", " ")] = window
    return presets


def _window(pair: Any) -> Pair | None:
    if not isinstance(pair, list) or len(pair) != 2:
        return None
    if any(isinstance(n, bool) or not isinstance(n, int | float) for n in pair):
        return None
    center, width = float(pair[0]), float(pair[1])
    return (center, width) if width > 0 and abs(center) + width < float("inf") else None


def _passed_over(path: str, why: str) -> None:
    warn_caller(f"{path}: {why}; correct it, or take it away")
