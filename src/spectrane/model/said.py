"""What a raster's metadata say of it that work depends on: its title, its date, its clouds.

What a person said (``metadata["given"]``, from ``amend --set``) wins over what the file says.
"""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any

from spectrane.model.addresses import amend_command
from spectrane.model.errors import MetadataError, nearest

GIVEN = "given"
"""The key under which metadata hold what a person said."""
_DATES = ("%Y:%m:%d %H:%M:%S", "%Y:%m:%d", "%Y%m%dT%H%M%S", "%Y%m%d")
_DATE_KEYS = ("date", "datetime", "DateTime", "DATE-OBS")
_CLOUD_KEYS = ("cloud", "eo:cloud_cover", "cloud_cover", "CLOUD")
_TITLE_KEYS = ("title", "OBJECT")
Given = str | int | float
KEYS = ("title", "date", "cloud")
"""Keys whose values are checked, and used by more than ``describe``."""
_KEY = re.compile(r"[A-Za-z][\w.:-]{0,63}$")


def read_date(text: object) -> datetime | None:
    """Return a date of ISO 8601, EXIF, or without separators; in UTC, where it names a zone.

    >>> read_date("2026-04-12"), read_date("2026:04:12 10:30:00"), read_date("12 April")
    (datetime.datetime(2026, 4, 12, 0, 0), datetime.datetime(2026, 4, 12, 10, 30), None)
    """
    if isinstance(text, datetime):
        return _plain(text)
    said = str(text).strip()
    for form in _DATES:
        try:
            return datetime.strptime(said, form)
        except ValueError:
            continue
    try:
        return _plain(datetime.fromisoformat(said))
    except ValueError:
        return None


def _plain(date: datetime) -> datetime:
    return date if date.tzinfo is None else date.astimezone(UTC).replace(tzinfo=None)


def date_of(metadata: Mapping[str, Any]) -> datetime | None:
    """Return when a raster was taken, by what its metadata say; None where they do not.

    >>> date_of({"STAC": {"datetime": "2026-04-12T10:30:00Z"}})
    datetime.datetime(2026, 4, 12, 10, 30)
    """
    said = under(metadata, *_DATE_KEYS)
    return None if said is None else read_date(said)


def date_text(date: datetime) -> str:
    """Return a date as it is told: without the time of day where that is midnight.

    >>> date_text(datetime(2026, 4, 12)), date_text(datetime(2026, 4, 12, 10, 30))
    ('2026-04-12', '2026-04-12 10:30:00')
    """
    return date.isoformat(" ").removesuffix(" 00:00:00")


def date_said(metadata: Mapping[str, Any]) -> Any:
    """Return what metadata say for a date, whether it can be read or not."""
    return under(metadata, *_DATE_KEYS)


def cloud_of(metadata: Mapping[str, Any]) -> float | None:
    """Return the cloud cover in percent; None where metadata say none."""
    try:
        return float(under(metadata, *_CLOUD_KEYS))
    except (TypeError, ValueError):
        return None


def title_of(metadata: Mapping[str, Any]) -> str | None:
    """Return the title a raster was given, or says of itself."""
    said = under(metadata, *_TITLE_KEYS)
    return said if isinstance(said, str) and said.strip() else None


def under(metadata: Mapping[str, Any], *names: str) -> Any:
    """Return what stands under one of several names, at any depth; what was given comes first."""
    given = metadata.get(GIVEN)
    held: list[Mapping[Any, Any]] = [given] if isinstance(given, Mapping) else []
    held.append(metadata)
    while held:
        one = held.pop(0)
        for name in names:
            if one.get(name) is not None:
                return one[name]
        held += [value for value in one.values() if isinstance(value, Mapping)]
    return None


def checked_metadata(given: Mapping[str, Any]) -> dict[str, Given | None]:
    """Return what a person says of a raster, checked; None and an empty text take a key away.

    Raises MetadataError for a key that is none, and a date or cloud cover that cannot be.

    >>> checked_metadata({"date": "2026-04-12", "cloud": "12"})
    {'date': '2026-04-12', 'cloud': 12}
    """
    made: dict[str, Given | None] = {}
    for key, value in given.items():
        if not isinstance(key, str) or not _KEY.match(key) or key == GIVEN:
            raise MetadataError(f"metadata {key!r}: expected a key of letters, digits, . : _ and -")
        plain = value.item() if hasattr(value, "item") else value
        if plain is None or plain == "":
            made[key] = None
            continue
        if isinstance(plain, datetime):
            plain = plain.isoformat()
        if isinstance(plain, bool) or not isinstance(plain, str | int | float):
            raise MetadataError(f"metadata {key} {value!r}: expected a text or a number")
        if key.lower() in KEYS and key not in KEYS:
            raise MetadataError(f"metadata {key!r}{nearest(key.lower(), KEYS)}")
        made[key] = _checked(key, plain)
    return made


def _checked(key: str, value: Given) -> Given:
    if key == "date" and read_date(value) is None:
        raise MetadataError(f"date {value!r}: expected such as 2026-04-12 or 2026-04-12T10:30:00Z")
    if key in ("date", "title"):
        return str(value)
    number = _number(value)
    if key == "cloud" and (number is None or not 0 <= number <= 100):
        raise MetadataError(f"cloud {value!r}: expected percent, 0 to 100")
    return value if number is None else number


def _number(value: Given) -> int | float | None:
    if not isinstance(value, str):
        return value if math.isfinite(value) else None
    try:
        return int(value) if re.fullmatch(r"[-+]?\d+", value.strip()) else _finite(float(value))
    except ValueError:
        return None


def _finite(value: float) -> float | None:
    return value if math.isfinite(value) else None


def filled_in(text: str, metadata: Mapping[str, Any], name: str) -> str:
    """Return a text with what stands in braces put in: title, date, cloud, file, or any key.

    Raises MetadataError for a key of which the metadata say nothing.

    >>> filled_in("{title}, {date}", {"title": "Sound", "date": "2026-04-12"}, "a.tif")
    'Sound, 2026-04-12'
    """

    def put(found: re.Match[str]) -> str:
        key = found[1]
        date = date_of(metadata)
        known: dict[str, Any] = {
            "file": name, "title": title_of(metadata) or name, "cloud": cloud_of(metadata),
            "date": None if date is None else date_text(date),
        }  # fmt: skip
        value = known[key] if key in known else under(metadata, key)
        if value is None or isinstance(value, Mapping):
            raise MetadataError(f"{name}: says no {key}, which the caption asks for; say it with: "
                                + amend_command(name, f"--set {key}=…"))  # fmt: skip
        return f"{value:g}" if isinstance(value, float) else str(value)

    return re.sub(r"\{([A-Za-z][\w.:-]*)\}", put, text)


def with_given(metadata: Mapping[str, Any], given: Mapping[str, Any]) -> dict[str, Any]:
    """Return metadata with what a person said laid over them."""
    said = {key: value for key, value in given.items() if value is not None}
    if not said:
        return dict(metadata)
    return {**metadata, **said, GIVEN: {**metadata.get(GIVEN, {}), **said}}
