"""Settings of this process: set in code, by the environment, or in the user's ``config.toml``."""

from __future__ import annotations

import os
from collections.abc import Callable
from typing import Any

from spectrane.kernels.records import record
from spectrane.model.errors import ArgumentError, nearest
from spectrane.model.telling import warn_caller
from spectrane.model.user_folders import settings_folder

_LARGEST = 1 << 20


@record(frozen=True)
class Setting:
    """One setting: what it is by itself, how a text is read, and what it must be."""

    default: Any
    read: Callable[[str], Any]
    right: Callable[[Any], bool]
    expected: str
    about: str


def _number(least: float) -> Callable[[Any], bool]:
    return lambda value: isinstance(value, int | float) and not isinstance(value, bool) and (
        least <= value < float("inf"))  # fmt: skip


def _whole_or_none(value: Any) -> bool:
    return value is None or (isinstance(value, int) and not isinstance(value, bool) and value >= 1)


KNOWN: dict[str, Setting] = {
    "threads": Setting(None, int, _whole_or_none, "a whole number from 1, or None",
                       "threads of a job; None: the cores this process may use, at most 8"),
    "memory_mb": Setting(256, float, _number(0), "megabytes, 0 or more",
                         "decoded blocks that are held in memory"),
    "cache_mb": Setting(1000, float, _number(0), "megabytes, 0 or more",
                        "what is kept on the disk for later looks; 0 keeps nothing"),
    "cache_folder": Setting(None, str, lambda value: value is None or isinstance(value, str),
                            "a folder, or None", "where it is kept; None: the user's cache folder"),
    "timeout": Setting(30.0, float, lambda value: _number(0)(value) and value > 0,
                               "seconds above 0", "how long a server may keep silent"),
    "identity": Setting("withheld", str, lambda value: value in ("withheld", "shown"),
                        "'withheld' or 'shown'", "whether names in DICOM files are handed on"),
}  # fmt: skip


class Settings:
    """What this process does by default, as attributes.

    Each may be set here, else by the environment (``SPECTRANE_THREADS``), else in ``config.toml``
    in the user's settings folder (``threads = 2``). Raises ArgumentError for a value that cannot
    be, and AttributeError for a setting there is not.

    >>> settings.memory_mb = 512
    >>> settings.memory_mb
    512
    >>> del settings.memory_mb
    >>> settings.threads = 0  # doctest: +ELLIPSIS
    Traceback (most recent call last):
    spectrane.model.errors.ArgumentError: settings.threads 0: expected a whole number from 1...
    """

    def __init__(self) -> None:
        object.__setattr__(self, "_said", {})
        object.__setattr__(self, "_file", None)
        object.__setattr__(self, "_listening", {})

    def __getattr__(self, name: str) -> Any:
        if name not in KNOWN:
            hint = nearest(name, KNOWN)
            raise AttributeError(f"settings: there is no {name!r}{hint}", name=name, obj=self)
        if name in self._said:
            return self._said[name]
        text = os.environ.get(f"SPECTRANE_{name.upper()}", "")
        if text:
            return self._from_environment(name, text)
        return self._from_file().get(name, KNOWN[name].default)

    def _from_environment(self, name: str, text: str) -> Any:
        try:
            return _checked(name, KNOWN[name].read(text))
        except (ValueError, ArgumentError) as error:
            raise ArgumentError(f"SPECTRANE_{name.upper()}={text}: expected "
                                f"{KNOWN[name].expected}") from error  # fmt: skip

    def __setattr__(self, name: str, value: Any) -> None:
        getattr(self, name)
        self._said[name] = _checked(name, value)
        for told in self._listening.get(name, ()):
            told(value)

    def __delattr__(self, name: str) -> None:
        self._said.pop(name, None)
        for told in self._listening.get(name, ()):
            told(getattr(self, name))

    def tell(self, name: str, told: Callable[[Any], None]) -> None:
        """Have a function called with a setting's value whenever it is set."""
        self._listening.setdefault(name, []).append(told)

    def _from_file(self) -> dict[str, Any]:
        """Return what the user's file says; what it says wrong is warned of and passed over."""
        if self._file is None:
            path = os.path.join(settings_folder(), "config.toml")
            object.__setattr__(self, "_file", _read(path) if os.path.exists(path) else {})
        found: dict[str, Any] = self._file
        return found

    def __dir__(self) -> list[str]:
        return [*KNOWN, "tell"]

    def __repr__(self) -> str:
        wide = max(map(len, KNOWN))
        return "\n".join(f"{name:{wide}}  {getattr(self, name)!r:12}  {one.about}"
                         for name, one in KNOWN.items())  # fmt: skip


def _checked(name: str, value: Any) -> Any:
    one = KNOWN[name]
    if isinstance(value, os.PathLike):
        value = os.fspath(value)
    if not one.right(value):
        raise ArgumentError(f"settings.{name} {value!r}: expected {one.expected}")
    return value


def _read(path: str) -> dict[str, Any]:
    from spectrane.model.errors import LookError, SpectraneError
    from spectrane.model.regular_files import read_toml

    found = {}
    try:
        given = read_toml(path, _LARGEST, LookError, "a file of settings")
    except SpectraneError as error:
        warn_caller(f"{path}: no setting of it is known: {error}")
        return {}
    for name, value in given.items():
        try:
            if name not in KNOWN:
                raise ArgumentError(f"there is no setting {name!r}{nearest(name, KNOWN)}")
            found[name] = _checked(name, value)
        except ArgumentError as error:
            warn_caller(f"{path}: passed over: {error}")
    return found


settings = Settings()
"""The settings of this process."""
