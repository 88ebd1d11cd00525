"""Tables of points as people keep them: CSV with commas, semicolons or tabs, decimal commas too."""

from __future__ import annotations

import csv
import os
import re
from typing import Any

from spectrane.model.errors import LookError
from spectrane.model.regular_files import path_text, read_small

_LARGEST = 64 << 20
_KNOWN = ("name", "point", "crs", "x", "y", "z", "row", "column", "i", "j", "k")
"""Columns that have a meaning; they may be written in capitals."""
_COMMA = re.compile(r"[-+]?\d*,\d+([eE][-+]?\d+)?")
_GROUPED = re.compile(r"[-+]?\d{1,3}(\.\d{3})+,\d+")


def read_points(path: str | os.PathLike[str]) -> list[dict[str, Any]]:
    """Return the rows of a CSV file by column names, as text.

    The first line names the columns; what stands between them there (semicolons, tabs or commas)
    does in all lines. Where it is not commas, 12,5 is a number, and 1.234,5 too. Raises
    MissingFile, or LookError for what is no such table.
    """
    name = path_text(path)
    lines = _decoded(read_small(name, _LARGEST, LookError, "a file of points")).splitlines()
    lines = [line for line in lines if line.strip() and not line.lower().startswith("sep=")]
    if not lines:
        raise LookError(f"{name}: holds no points")
    between = next((mark for mark in ";\t" if mark in lines[0]), ",")
    try:
        listed = list(csv.DictReader(lines, delimiter=between, skipinitialspace=True))
    except csv.Error as error:
        raise LookError(f"{name}: points cannot be read: {error}") from error
    return [
        _row(record, between, f"{name}: line {number}") for number, record in enumerate(listed, 2)
    ]


def _decoded(data: bytes) -> str:
    try:
        return data.decode("utf-8-sig")
    except UnicodeDecodeError:
        return data.decode("latin-1")  # as spreadsheets of old write it


def _row(given: dict[Any, Any], between: str, where: str) -> dict[str, Any]:
    if None in given:
        raise LookError(
            f"{where}: has more fields than the first line names columns; where commas stand in "
            "numbers, put semicolons between them"
        )
    row = {}
    for key, value in given.items():
        plain = str(key).strip()
        known = plain.lower() if plain.lower() in _KNOWN else plain
        row[known] = _number(value.strip(), between) if isinstance(value, str) else value
    return row


def _number(text: str, between: str) -> str:
    """Return a number's text with a point where it has a decimal comma."""
    if between == "," or not (_COMMA.fullmatch(text) or _GROUPED.fullmatch(text)):
        return text
    return text.replace(".", "").replace(",", ".")
