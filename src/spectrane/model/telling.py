"""Warnings that point at the line of whoever called us, however deep they are found."""

from __future__ import annotations

import os
import sys
import threading
import warnings
from types import FrameType

from spectrane.model.errors import DataWarning

_HERE = os.path.dirname(os.path.dirname(os.path.abspath(__file__))) + os.sep

_thread = threading.local()


def warn_for(caller: FrameType) -> None:
    """Let warnings found in this thread, which works for that caller alone, point at it."""
    _thread.caller = caller


def warn_caller(message: str) -> None:
    """Warn (DataWarning) of data that deserve a second look, at the first line outside of us.

    >>> with warnings.catch_warnings(record=True) as told:
    ...     warnings.simplefilter("always")
    ...     warn_caller("half of the pixels are no-data")
    >>> str(told[0].message), told[0].category.__name__
    ('half of the pixels are no-data', 'DataWarning')
    """
    frame = sys._getframe(1)
    while frame.f_back is not None and frame.f_code.co_filename.startswith(_HERE):
        frame = frame.f_back
        if frame.f_code.co_filename == threading.__file__:
            frame = getattr(_thread, "caller", frame)
    registry = frame.f_globals.setdefault("__warningregistry__", {})
    name = str(frame.f_globals.get("__name__", "spectrane"))
    warnings.warn_explicit(message, DataWarning, frame.f_code.co_filename, frame.f_lineno, name,
                           registry)  # fmt: skip
