"""Ctrl-C: one line and status 130, whatever is going on."""

from __future__ import annotations

import os
import signal
import sys

_SAID = b"interrupted; nothing half-written is left\n"


class Interrupted(BaseException):
    """Somebody pressed Ctrl-C."""


_state = {"working": False, "interrupted": False}


def interrupt(*_: object) -> None:
    """Answer the signal: at once while nothing was begun, else by an exception."""
    _state["interrupted"] = True
    if not _state["working"]:
        os.write(2, _SAID)  # nothing was begun, and half an import can be left as it is
        os._exit(130)
    raise Interrupted


def working() -> None:
    """From now on an interrupt lets what was begun be tidied up."""
    _state["working"] = True


def interrupted() -> bool:
    """Tell whether there was an interrupt: what is raised after it is of no interest."""
    return _state["interrupted"]


def end_interrupted() -> None:
    """Say so in one line, and exit."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    sys.stdout.flush()
    os.write(2, _SAID)
    os._exit(130)
