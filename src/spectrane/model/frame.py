"""A frame: one volume of a file, as its face tells it."""

from __future__ import annotations

from spectrane.kernels.records import record


@record(frozen=True)
class Frame:
    """One volume of a file: its name, its unit, how stored numbers become physical ones, when.

    ``time`` is in seconds, None where frames are no times; ``statistic`` as a ``Band`` has it.

    >>> Frame("walk", unit="HU").scale
    1.0
    """

    name: str
    unit: str | None = None
    scale: float = 1.0
    offset: float = 0.0
    time: float | None = None
    statistic: str | None = None
