"""What goes on, for who wants to follow it: the logger ``spectrane`` of Python's logging.

It is silent unless somebody gives it, or the root, a handler; where nothing has imported logging
nobody can have, and it is not loaded either.
"""

from __future__ import annotations

import sys
from typing import Any

DEBUG, INFO = 10, 20


def log(level: int, message: str, *arguments: Any) -> None:
    """Tell the logger; ``message`` has ``%`` marks for the arguments, as logging wants them.

    >>> log(DEBUG, "opened %s", "a.tif")
    """
    logging: Any = sys.modules.get("logging")
    if logging is None or not hasattr(logging, "getLogger"):
        return
    logger = logging.getLogger("spectrane")
    if not logger.handlers:
        logger.addHandler(logging.NullHandler())
    logger.log(level, message, *arguments, stacklevel=2)
