"""An expression that compares one frame with a number: ``abs(t) >= 5``, ``band(1) < -2``."""

from __future__ import annotations

import re

from spectrane.kernels.records import record

NUMBER = r"-?(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][-+]?\d+)?"
_SINGLE = re.compile(
    rf"\s*(abs\(\s*)?(?:(?:band|frame)\(\s*(?:(\d+)|(?P<q>['\"])(.+?)(?P=q))\s*\)|(\w+))"
    rf"\s*(\))?\s*([<>])=?\s*({NUMBER})\s*"
)
_LAST = re.compile(rf"(.*[<>]=?\s*)({NUMBER})\s*", re.DOTALL)


@record(frozen=True)
class Compared:
    """What is compared: a frame's name or number, or its size (``sized``), above or below."""

    frame: int | str
    sized: bool
    above: bool
    level: float


def compared(text: str) -> Compared | None:
    """Return what an expression compares with a number; None where it says more than that.

    >>> compared("abs(t) >= 5")
    Compared(frame='t', sized=True, above=True, level=5.0)
    >>> compared("frame('t of walk') < -2").frame, compared("t > 1.2.3"), compared("a > b")
    ('t of walk', None, None)
    """
    found = _SINGLE.fullmatch(text)
    if found is None or bool(found[1]) != bool(found[6]):
        return None
    frame = int(found[2]) if found[2] else found[4] or found[5]
    return Compared(frame, bool(found[1]), found[7] == ">", float(found[8]))


def last_number(text: str) -> tuple[str, float] | None:
    """Return what comes before the number that an expression compares with last, and the number.

    >>> last_number("abs(t) >= 5"), last_number("nir > red")
    (('abs(t) >= ', 5.0), None)
    """
    found = _LAST.fullmatch(text)
    return None if found is None else (found[1], float(found[2]))
