"""Dates of catalogues: moments in UTC, and spans of them that hold their ends.

RFC 3339 with a zone is what the standard wants; without one, UTC is meant. A day, a month or a year
means all of it.
"""

from __future__ import annotations

import re
from datetime import UTC, date, datetime, timedelta
from typing import Any

from spectrane.kernels.records import record
from spectrane.model.errors import LookError
from spectrane.model.said import read_date

_LEAST = timedelta(microseconds=1)


@record(frozen=True)
class Span:
    """A span of time in UTC, both ends included; None where an end is open.

    >>> Span.of("2026-04", "2026-05-02").text()
    '2026-04-01T00:00:00Z/2026-05-02T23:59:59.999999Z'
    """

    start: datetime | None = None
    end: datetime | None = None

    @classmethod
    def of(cls, first: Any = None, last: Any = None) -> Span:
        """Return the span from the beginning of one date to the end of another.

        Raises LookError for what is no date, and for an end before its start.
        """
        start = None if open_end(first) else _bounds(first)[0]
        end = None if open_end(last) else _bounds(last)[1]
        if start is not None and end is not None and end < start:
            raise LookError(f"dates from {first} to {last}: the end lies before the start")
        return cls(start, end)

    def meets(self, start: datetime | None, end: datetime | None) -> bool:
        """Tell whether a span of time, open at None, shares a moment with this one.

        >>> Span.of("2026-04-12").meets(datetime(2026, 4, 1), datetime(2026, 4, 12))
        True
        """
        early = self.start is not None and end is not None and end < self.start
        late = self.end is not None and start is not None and start > self.end
        return not early and not late

    def text(self) -> str:
        """Return the span as a search takes it (RFC 3339, section 5.6; .. for an open end)."""
        return f"{moment_text(self.start)}/{moment_text(self.end)}"


def moment_text(moment: datetime | None) -> str:
    """Return a moment of UTC by RFC 3339; ``..`` for None.

    >>> moment_text(datetime(2026, 4, 12, 10, 30))
    '2026-04-12T10:30:00Z'
    """
    return ".." if moment is None else f"{moment.isoformat()}Z"


def read_moment(given: Any) -> datetime | None:
    """Return a moment in UTC (without zone); None for what is none.

    >>> read_moment("2026-04-12T12:30:00+02:00"), read_moment("2026-04-12T10:30:00Z")
    (datetime.datetime(2026, 4, 12, 10, 30), datetime.datetime(2026, 4, 12, 10, 30))
    """
    return None if given is None else read_date(_without_more(str(given)))


def has_zone(given: Any) -> bool:
    """Tell whether a date names its zone.

    >>> has_zone("2026-04-12T10:30:00Z"), has_zone("2026-04-12T10:30:00"), has_zone("2026-04-12")
    (True, False, False)
    """
    return bool(re.search(r"\d[Tt ].*(?:[Zz]|[+-]\d\d:?\d\d)$", str(given).strip()))


def open_end(given: Any) -> bool:
    """Tell whether an end of a span is open: None, an empty text, or ``..``."""
    return given is None or str(given).strip() in ("", "..")


def _without_more(text: str) -> str:
    """Cut a fraction of a second to microseconds, which is all that is held."""
    return re.sub(r"(\.\d{6})\d+", r"\1", text.strip())


def _bounds(given: Any) -> tuple[datetime, datetime]:
    """Return the first and the last moment of a date, as exact as it is said."""
    if isinstance(given, datetime):
        moment = given if given.tzinfo is None else given.astimezone(UTC).replace(tzinfo=None)
        return moment, moment
    text = given.isoformat() if isinstance(given, date) else str(given).strip()
    part = re.fullmatch(r"(\d{4})(?:-(\d{2}))?", text)
    try:
        if part is not None:
            year, month = int(part[1]), int(part[2] or 1)
            first = datetime(year, month, 1)
            after = datetime(year + 1, 1, 1) if part[2] is None or month == 12 else (
                datetime(year, month + 1, 1))  # fmt: skip
            return first, after - _LEAST
        found = read_moment(text)
    except (ValueError, OverflowError):
        found = None
    if found is None:
        raise LookError(f"date {given!r}: expected such as 2026-04-12, 2026-04, or "
                        "2026-04-12T10:30:00Z")  # fmt: skip
    whole_day = re.fullmatch(r"\d{4}-?\d{2}-?\d{2}", text) is not None
    whole_second = not whole_day and "." not in text
    last = found + timedelta(days=1) - _LEAST if whole_day else found
    return found, last + timedelta(seconds=1) - _LEAST if whole_second else last
