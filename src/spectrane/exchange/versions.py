"""What this is, what it runs on, and what it works with: for a report of a problem."""

from __future__ import annotations

import importlib.metadata
import platform
import re

from spectrane.model.settings import settings
from spectrane.model.version import VERSION


def versions_text() -> str:
    """Return versions of Spectrane, Python and the libraries, and the settings, as a table.

    >>> "numpy" in versions_text()
    True
    """
    rows = [("spectrane", VERSION), ("python", platform.python_version()),
            ("machine", f"{platform.system()} {platform.machine()}")]  # fmt: skip
    for wanted in importlib.metadata.requires("spectrane") or []:
        name = re.split(r"[^\w.-]", wanted, maxsplit=1)[0]
        extra = re.search(r"extra == ['\"](\w+)", wanted)
        if name == "spectrane" or (extra is not None and extra[1] == "dev"):
            continue
        rows.append((name, _version_of(name) or f"not installed (spectrane[{extra[1]}])" if extra
                     else _version_of(name) or "not installed"))  # fmt: skip
    wide = max(len(name) for name, _ in rows)
    listed = "\n".join(f"{name:{wide}}  {said}" for name, said in rows)
    return f"{listed}\n\nSettings\n{settings!r}"


def _version_of(name: str) -> str | None:
    try:
        return importlib.metadata.version(name)
    except importlib.metadata.PackageNotFoundError:
        return None


def show_versions() -> None:
    """Print versions of Spectrane, Python and the libraries, and the settings.

    >>> show_versions()  # doctest: +ELLIPSIS
    spectrane ...
    """
    print(versions_text())
