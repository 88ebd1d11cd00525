"""Corrections inside a PNG: a sidecar as its text, before the image data."""

from __future__ import annotations

from typing import Any

from spectrane.engine.files import open_bytes
from spectrane.formats.keeping import sidecar_table, to_toml
from spectrane.formats.png.chunks import SIDECAR_KEYWORD, chunk_places
from spectrane.formats.png.encoding import text_chunk
from spectrane.formats.splicing import splice
from spectrane.formats.undoing import noted
from spectrane.model.source import Source


def amend_png(path: str, changed: Source, table: dict[str, Any]) -> dict[str, Any]:
    """Put what is known into a text chunk; the old one, if any, is replaced."""
    file = open_bytes(path)
    notes = changed.metadata.get("notes")
    text = to_toml(sidecar_table(changed) | ({"notes": notes} if notes else {}))
    new = text_chunk(SIDECAR_KEYWORD, text)
    place, old = 0, 0
    for kind, offset, length in chunk_places(file):
        if kind in (b"tEXt", b"iTXt") and _keyword(file.read(offset, min(length, 80))):
            place, old = offset - 8, length + 12
            break
        if kind == b"IDAT":
            place = offset - 8
            break
    file.close()
    return splice(path, place, old, new, noted)


def _keyword(start: bytes) -> bool:
    return start.split(b"\0")[0] == SIDECAR_KEYWORD.encode()
