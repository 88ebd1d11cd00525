"""Tables as CSV: texts of files stay texts there."""

from __future__ import annotations

from typing import Any

from spectrane.model.whole_files import written_whole


def write_csv(table: Any, path: str, *, overwrite: bool) -> None:
    """Write a DataFrame as CSV: see ``csv_bytes``."""
    with written_whole(path, overwrite=overwrite) as file:
        file.write(csv_bytes(table))


_RUN = ("=", "+", "-", "@", "\t", "\r")
"""Beginnings of texts that a spreadsheet would take for a formula."""


def csv_bytes(table: Any) -> bytes:
    """Return a DataFrame as CSV; no text in it is run as a formula, and numbers stay as they are.

    >>> import pandas
    >>> table = pandas.DataFrame({"name": ["=1+1", "sea"], "depth": [-2.5, 3]})
    >>> print(csv_bytes(table).decode().strip())
    name,depth
    '=1+1,-2.5
    sea,3.0
    """

    def safe(value: Any) -> Any:
        return f"'{value}" if isinstance(value, str) and value.startswith(_RUN) else value

    shown = table.rename(columns=safe)
    for name in shown.columns:
        if shown[name].dtype.kind not in "biufc":
            shown[name] = shown[name].map(safe)
    return str(shown.to_csv(index=False)).encode("utf-8", "backslashreplace")
