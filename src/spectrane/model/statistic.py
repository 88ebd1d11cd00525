"""The statistic that a map holds, and its degrees of freedom, as a band says them."""

from __future__ import annotations

import re
from typing import Literal, get_args

from spectrane.kernels.records import record
from spectrane.model.errors import MetadataError

StatisticKind = Literal["t", "F", "z", "chi2", "correlation", "p", "ln p", "log10 p"]
FREEDOM: dict[str, int] = dict(zip(get_args(StatisticKind), (1, 2, 0, 1, 1, 0, 0, 0), strict=True))
"""Kind of statistic -> how many degrees of freedom it has."""
_WRITTEN = re.compile(r"\s*(t|F|z|chi2|correlation|p|ln p|log10 p)\s*(?:\(([^()]*)\))?\s*")
_SPOKEN = {"chi2": "chi-squared", "p": "p value", "ln p": "natural logarithm of p",
           "log10 p": "decimal logarithm of p"}  # fmt: skip


@record(frozen=True)
class Statistic:
    """A kind of statistic, and its degrees of freedom where they are known.

    ``F`` has those of the numerator first. Its text is ``t(20)``, ``F(2,30)``, ``z``, ``p`` …

    >>> str(Statistic("t", (20.0,))), Statistic("F", (2.0, 30.0)).spoken
    ('t(20)', 'F statistic with 2 and 30 degrees of freedom')
    """

    kind: StatisticKind
    freedom: tuple[float, ...] = ()

    def __str__(self) -> str:
        """Return its text, which ``statistic_of`` reads."""
        told = ",".join(f"{number:.15g}" for number in self.freedom)
        return f"{self.kind}({told})" if told else self.kind

    @property
    def spoken(self) -> str:
        """What it is, in words."""
        said = _SPOKEN.get(self.kind, f"{self.kind} statistic")
        free = " and ".join(f"{number:g}" for number in self.freedom)
        return f"{said} with {free} degrees of freedom" if free else said


def statistic_of(text: str) -> Statistic:
    """Read a statistic. Raises MetadataError for what is none.

    >>> statistic_of("F(2, 30)").freedom
    (2.0, 30.0)
    """
    found = _WRITTEN.fullmatch(text)
    try:
        freedom = tuple(float(one) for one in (found[2] or "").split(",") if one.strip()) if (
            found) else ()  # fmt: skip
    except ValueError:
        found = None
    kind: StatisticKind | None = None if found is None else found[1]  # type: ignore[assignment]
    if kind is None or len(freedom) not in (0, FREEDOM[kind]) or not all(
        0 < one < float("inf") for one in freedom
    ):  # fmt: skip
        raise MetadataError(f"statistic {text!r}: expected t(20), F(2,30), z, chi2(3), "
                            "correlation(18), p, ln p or log10 p")  # fmt: skip
    return Statistic(kind, freedom)
