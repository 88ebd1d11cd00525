"""HTML for notebooks: tables, pictures and swatches; every text from a file is escaped."""

from __future__ import annotations

import base64
from collections.abc import Sequence
from typing import Any

from spectrane.model.printing import printable


def escaped(text: object) -> str:
    """Return a text as HTML shows it.

    >>> escaped("<b>&")
    '&lt;b&gt;&amp;'
    """
    import html  # its list of entities is long, and most runs write none

    return html.escape(printable(str(text)))


def table_html(rows: Sequence[Sequence[object]], *, headed: bool = True) -> str:
    """Return rows as a table, the first of which is ``headed``; without, first cells are.

    >>> table_html([["Band"], ["<1>"]])
    '<table><tr><th>Band</th></tr><tr><td>&lt;1&gt;</td></tr></table>'
    """
    made = []
    for number, row in enumerate(rows):
        tags = ["th"] * len(row) if headed and number == 0 else ["td"] * len(row)
        if not headed:
            tags[:1] = ["th style='text-align:left'"]
        cells = (f"<{tag}>{escaped(cell)}</{tag.split(' ')[0]}>"
                 for tag, cell in zip(tags, row, strict=True))  # fmt: skip
        made.append(f"<tr>{''.join(cells)}</tr>")
    return f"<table>{''.join(made)}</table>"


def picture_html(png: bytes, about: str, *, width: int | None = None, height: int = 0) -> str:
    """Return a PNG as an image that stands in the page itself; ``about`` is read out."""
    data = base64.b64encode(png).decode()
    wide = "" if width is None else f" style='width:{width}px;height:{height}px'"
    return f"<img alt='{escaped(about)}'{wide} src='data:image/png;base64,{data}'>"


def in_row(*parts: str) -> str:
    """Return parts that stand beside one another."""
    inside = "".join(f"<div>{part}</div>" for part in parts if part)
    return f"<div style='display:flex;gap:1em;align-items:flex-start'>{inside}</div>"


class Listed(tuple[Any, ...]):
    """Records in a row, which a notebook shows as a table of the fields that some of them have."""

    __slots__ = ()

    def _repr_html_(self) -> str:
        if not self:
            return table_html([["none"]])
        names = [name for name in self[0].__dataclass_fields__
                 if any(getattr(one, name) not in (None, "", ()) for one in self)]  # fmt: skip
        rows = [["", *names]]
        rows += [[str(k), *("" if getattr(one, name) is None else str(getattr(one, name))
                            for name in names)] for k, one in enumerate(self, 1)]  # fmt: skip
        return table_html(rows)
