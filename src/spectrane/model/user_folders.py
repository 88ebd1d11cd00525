"""Where a user's caches and settings lie: one folder of ours in each."""

from __future__ import annotations

import os
import sys

_OURS = "spectrane"


def cache_folder() -> str:
    """Return the user's folder for what can be found again."""
    return _folder("XDG_CACHE_HOME", ".cache", "user_cache_dir")


def settings_folder() -> str:
    """Return the user's folder for settings."""
    return _folder("XDG_CONFIG_HOME", ".config", "user_config_dir")


def _folder(variable: str, usual: str, named: str) -> str:
    """Return a folder by the XDG Base Directory Specification, elsewhere by the system's custom.

    On Linux ``platformdirs`` says the same, but takes a twentieth of a command's start to load.
    """
    if sys.platform == "linux":
        said = os.environ.get(variable, "").strip()
        return os.path.join(said or os.path.expanduser(f"~/{usual}"), _OURS)
    import platformdirs

    return str(getattr(platformdirs, named)(_OURS, appauthor=False))
