"""Corrections inside a FITS file: cards of the image's header."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from spectrane.engine.files import open_bytes
from spectrane.formats.fits.header import CARD, card, header_bytes
from spectrane.formats.fits.reader import images
from spectrane.formats.splicing import splice
from spectrane.formats.undoing import noted
from spectrane.model.errors import FormatError
from spectrane.model.source import Source

_RESERVED = frozenset({"SIMPLE", "BITPIX", "NAXIS", "NAXIS1", "NAXIS2", "NAXIS3", "EXTEND", "END",
                       "BSCALE", "BZERO", "BLANK", "BUNIT", "XTENSION", "COMMENT", "HISTORY",
                       "PCOUNT", "GCOUNT", "CONTINUE", "SPECTRAN"})  # fmt: skip


def amend_fits(path: str, changed: Source, table: dict[str, Any]) -> dict[str, Any]:
    """Replace or add BLANK, BUNIT, BSCALE, BZERO, BANDn in the first image's header."""
    file = open_bytes(path)
    unit = images(file)[0][1]
    head = file.read(unit.start, unit.data - unit.start).decode("ascii", "replace")
    file.close()
    lines = [head[k : k + CARD] for k in range(0, len(head), CARD)]
    lines = lines[: next(k for k, line in enumerate(lines) if line.rstrip() == "END")]
    for keyword, value in _values(path, changed, table, int(unit.cards["BITPIX"])).items():
        lines = _with(lines, keyword, value)
    return splice(path, unit.start, unit.data - unit.start, header_bytes(lines), noted)


def _values(path: str, changed: Source, table: dict[str, Any], bits: int) -> dict[str, Any]:
    cards: dict[str, Any] = {}
    bands = changed.bands
    alike = {(b.unit, b.scale, b.offset, repr(b.nodata)) for b in bands}
    if len(alike) > 1:
        raise FormatError(f"{path}: FITS keeps one unit, scale and no-data for all bands")
    one = bands[0]
    if "nodata" in table or any("nodata" in band for band in table.get("bands", [])):
        if isinstance(one.nodata, tuple) or bits < 0:
            raise FormatError(
                f"{path}: BLANK is one whole number of an integer image, not {one.nodata}; "
                "floats use NaN; leave it in the sidecar"
            )
        shift = _shift(changed, bits)
        cards["BLANK"] = None if one.nodata is None else int(one.nodata) - shift
    for band in table.get("bands", []):
        cards |= {"BUNIT": one.unit} if "unit" in band else {}
        cards |= {"BSCALE": one.scale} if "scale" in band else {}
        cards |= {"BZERO": one.offset} if "offset" in band else {}
        cards |= {f"BAND{band['number']}": band["name"]} if "name" in band else {}
    cards |= dict(_said(path, table.get("metadata", {})))
    if _shift(changed, bits) and cards.keys() & {"BSCALE", "BZERO"}:
        raise FormatError(f"{path}: BZERO makes its numbers unsigned and cannot scale them too")
    return cards


_KEYWORDS = {"date": "DATE-OBS", "title": "OBJECT", "cloud": "CLOUD"}


def _said(path: str, given: dict[str, Any]) -> Iterator[tuple[str, Any]]:
    """Yield cards of what a person said: those of the standard, or a keyword like the key."""
    for key, value in given.items():
        keyword = _KEYWORDS.get(key, key.upper())
        if not re.fullmatch(r"[A-Z0-9_-]{1,8}", keyword) or keyword in _RESERVED:
            raise FormatError(f"{path}: FITS has no keyword for {key!r}: up to 8 letters, digits, "
                              "none of the standard's; leave it in the sidecar")  # fmt: skip
        yield keyword, value


def _shift(changed: Source, bits: int) -> int:
    """Return BZERO where it turns the sign, which BLANK is counted before."""
    if changed.dtype.kind == "u" and bits > 8:
        return 1 << (bits - 1)
    return -128 if changed.dtype.name == "int8" else 0


def _with(lines: list[str], keyword: str, value: Any) -> list[str]:
    kept, skipping = [], False
    for line in lines:
        skipping = line.startswith(f"{keyword:<8}=") or (skipping and line.startswith("CONTINUE"))
        if not skipping:
            kept.append(line)
    return kept if value is None else kept + card(keyword, value)
