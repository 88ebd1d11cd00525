"""Parts of other packages that are loaded with them and that no command uses: left out, for a
quicker start.
"""

from __future__ import annotations

import sys
from types import ModuleType
from typing import Any

LEFT_OUT = (
    "pyproj._show_versions",  # reads what is installed, with all that parses e-mail
    "pyproj.sync",  # fetches grids of datum shifts: with what speaks HTTP
    "uvicorn.main",  # its own command line, and servers of several processes
)


class _LeftOut(ModuleType):
    """A module in which everything is there and can be done nothing with."""

    def __getattr__(self, name: str) -> Any:
        if name.startswith("__"):
            raise AttributeError(name)

        def missing(*given: Any, **named: Any) -> None:
            raise ImportError(f"{self.__name__}.{name} is left out of commands, to start sooner")

        return missing


def leave_out() -> None:
    """Stand in for parts of packages that are not loaded yet: for a process that is ours alone.

    >>> from spectrane.cli.left_out import _LeftOut
    >>> _LeftOut("somewhere").something()
    Traceback (most recent call last):
    ...
    ImportError: somewhere.something is left out of commands, to start sooner
    """
    for name in LEFT_OUT:
        sys.modules.setdefault(name, _LeftOut(name))
