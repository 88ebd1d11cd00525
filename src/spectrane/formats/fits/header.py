"""FITS headers (FITS 4.0, section 4): cards of 80 characters in blocks of 2880 bytes."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from spectrane.engine.byte_file import ByteFile
from spectrane.kernels.records import record
from spectrane.model.errors import FormatError

BLOCK, CARD = 2880, 80
WORDS = "SPECTRAN"
"""The card that holds, as JSON of a sidecar's text, what FITS has no field for."""
_MOST_BLOCKS = 4000
_MOST_UNITS = 10000
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([EeDd][+-]?\d+)?$")


@record(frozen=True)
class Unit:
    """One header-data unit: its cards, where its header and data begin, how long its data are."""

    number: int
    cards: dict[str, Any]
    comments: dict[str, str]
    start: int
    data: int
    length: int
    file: ByteFile

    @property
    def end(self) -> int:
        """Where the next unit begins."""
        return self.data + -(-self.length // BLOCK) * BLOCK

    @property
    def shape(self) -> tuple[int, ...]:
        """NAXISn, the slowest first."""
        return tuple(self.integer(f"NAXIS{n}") for n in range(self.integer("NAXIS"), 0, -1))

    @property
    def name(self) -> str:
        """EXTNAME, or nothing."""
        return str(self.cards.get("EXTNAME", ""))

    def fail(self, keyword: str, problem: str) -> FormatError:
        """Return the error for one keyword of this unit."""
        return FormatError(f"{self.file.name}: unit {self.number}, {keyword}: {problem}")

    def integer(self, keyword: str, default: int | None = None) -> int:
        """Return a whole number; FormatError where it is missing without a default."""
        value = self.cards.get(keyword, default)
        if isinstance(value, bool) or not isinstance(value, int):
            raise self.fail(keyword, f"is {value!r}; expected a whole number")
        return value

    def number_of(self, keyword: str, default: float) -> float:
        """Return a number, or the default."""
        value = self.cards.get(keyword, default)
        if isinstance(value, bool) or not isinstance(value, int | float):
            raise self.fail(keyword, f"is {value!r}; expected a number")
        return float(value)


def read_units(file: ByteFile) -> Iterator[Unit]:
    """Yield the header-data units of a file. Raises FormatError on a broken one.

    What follows the last whole header is left alone, as the standard's special records are.
    """
    position = 0
    for number in range(1, _MOST_UNITS):
        if position + CARD > file.size:
            return
        first = file.read(position, CARD)
        if number > 1 and not first.startswith(b"XTENSION="):
            return
        unit = _unit(file, number, position)
        yield unit
        position = unit.end


def _unit(file: ByteFile, number: int, start: int) -> Unit:
    lines: list[bytes] = []
    position = start
    for _ in range(_MOST_BLOCKS):
        block = file.read(position, BLOCK)
        position += BLOCK
        cut = [block[k : k + CARD] for k in range(0, BLOCK, CARD)]
        ends = [k for k, line in enumerate(cut) if line.rstrip() == b"END"]
        lines += cut[: ends[0]] if ends else cut
        if ends:
            cards, comments = parse_cards(lines)
            unit = Unit(number, cards, comments, start, position, 0, file)
            return Unit(number, cards, comments, start, position, _data_length(unit), file)
    raise FormatError(f"{file.name}: unit {number} at byte {start}: its header has no END")


def _data_length(unit: Unit) -> int:
    """Return the bytes of a unit's data (section 4.4.1.1), bounded by what a file can be."""
    axes = unit.integer("NAXIS", 0)
    if not 0 <= axes <= 999:
        raise unit.fail("NAXIS", f"is {axes}; expected 0 to 999")
    bits = unit.integer("BITPIX")
    if bits not in (8, 16, 32, 64, -32, -64):
        raise unit.fail("BITPIX", f"is {bits}; expected 8, 16, 32, 64, -32 or -64")
    lengths = [unit.integer(f"NAXIS{n}") for n in range(1, axes + 1)]
    if any(length < 0 for length in lengths):
        raise unit.fail("NAXIS", f"has a negative length among {lengths}")
    groups = unit.cards.get("GROUPS") is True and bool(lengths) and lengths[0] == 0
    total = 1 if lengths else 0
    for length in lengths[1:] if groups else lengths:
        total *= length
    extra = unit.integer("PCOUNT", 0)
    count = unit.integer("GCOUNT", 1)
    length = abs(bits) // 8 * count * (extra + total)
    if not 0 <= length < 1 << 62:
        raise unit.fail("NAXIS", f"claims {length} bytes of data")
    return length


def parse_cards(lines: list[bytes]) -> tuple[dict[str, Any], dict[str, str]]:
    """Return keywords with their values, and their comments; CONTINUE joins long strings.

    COMMENT and HISTORY become lists of lines.

    >>> parse_cards([b"BITPIX  =                   16 / bits".ljust(80)])
    ({'BITPIX': 16}, {'BITPIX': 'bits'})
    """
    cards: dict[str, Any] = {}
    comments: dict[str, str] = {}
    last = ""
    for raw in lines:
        line = raw.decode("ascii", "replace")
        keyword = line[:8].rstrip()
        if keyword in ("COMMENT", "HISTORY"):
            cards.setdefault(keyword, []).append(line[8:].rstrip())
        elif keyword == "CONTINUE" and isinstance(cards.get(last), str):
            more, note = _value(line[10:])
            if isinstance(more, str) and cards[last].endswith("&"):
                cards[last] = cards[last][:-1] + more
                comments[last] = (comments.get(last, "") + " " + note).strip()
        elif line[8:10] == "= " and keyword:
            cards[keyword], note = _value(line[10:])
            last = keyword
            if note:
                comments[keyword] = note
        elif keyword == "HIERARCH" and "=" in line:
            name, _, rest = line[9:].partition("=")
            last = name.strip()
            cards[last], _ = _value(rest)
    return {k: _whole(v) for k, v in cards.items()}, comments


def _whole(value: Any) -> Any:
    return value.removesuffix("&") if isinstance(value, str) else value


def _value(text: str) -> tuple[Any, str]:
    """Return a card's value and comment (section 4.2)."""
    text = text.strip()
    if text.startswith("'"):
        found = re.match(r"'((?:[^']|'')*)'", text)
        if found is None:
            return text[1:].rstrip(), ""
        rest = text[found.end() :].partition("/")[2]
        return found[1].replace("''", "'").rstrip(), rest.strip()
    value, _, note = text.partition("/")
    value, note = value.strip(), note.strip()
    if value in ("T", "F"):
        return value == "T", note
    if re.fullmatch(r"[+-]?\d{1,40}", value):
        return int(value), note
    if _NUMBER.fullmatch(value):
        return float(value.upper().replace("D", "E")), note
    return (value or None), note


def card(keyword: str, value: Any, comment: str = "") -> list[str]:
    """Return one keyword as cards of 80 characters; long strings are continued.

    >>> card("NAXIS", 2)[0].rstrip()
    'NAXIS   =                    2'
    """
    if isinstance(value, str):
        return _string_cards(keyword, value, comment)
    if isinstance(value, bool):
        text = "T" if value else "F"
    elif isinstance(value, int):
        text = str(value)
    else:
        text = repr(float(value)).upper()
        text = text if "." in text or "E" in text else text + "."
    note = f" / {comment}" if comment else ""
    return [f"{keyword:<8}= {text:>20}{note}"[:CARD].ljust(CARD)]


def _string_cards(keyword: str, value: str, comment: str) -> list[str]:
    plain = value.encode("ascii", "replace").decode()
    plain = "".join(ch if " " <= ch <= "~" else " " for ch in plain).replace("'", "''")
    pieces, room = [], 67
    while len(plain) > room + 1:
        end = room - (plain[:room].endswith("'") and not plain[:room].endswith("''"))
        pieces.append(plain[:end] + "&")
        plain = plain[end:]
    pieces.append(plain)
    lines = [f"{keyword:<8}= '{pieces[0]:<8}'"]
    lines += [f"CONTINUE  '{piece}'" for piece in pieces[1:]]
    if comment and len(lines[-1]) + 3 + len(comment) <= CARD:
        lines[-1] += f" / {comment}"
    return [line.ljust(CARD) for line in lines]


def history(text: str) -> list[str]:
    """Return a text as HISTORY cards: as many as it takes, of ASCII (section 4.4.2.5).

    >>> [line.rstrip() for line in history("from a file")]
    ['HISTORY from a file']
    """
    plain = "".join(ch if " " <= ch <= "~" else " " if ch.isspace() else "?" for ch in text)
    room = CARD - 8
    return [f"HISTORY {plain[k : k + room]}".ljust(CARD) for k in range(0, len(plain), room)]


def header_bytes(lines: list[str]) -> bytes:
    """Return cards as a header: END added, filled up to a whole number of blocks."""
    text = "".join([*lines, "END".ljust(CARD)])
    return text.ljust(-(-len(text) // BLOCK) * BLOCK).encode("ascii")
