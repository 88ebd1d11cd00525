"""Data elements (PS3.5 section 7): tags, representations, lengths and sequences, read lazily."""

from __future__ import annotations

import struct
from dataclasses import dataclass, field
from typing import Any

from spectrane.engine.byte_file import ByteFile
from spectrane.formats.dicom.characters import decoded
from spectrane.formats.dicom.dictionary import TAGS, implied, known, written
from spectrane.formats.dicom.identity import identifies
from spectrane.model.errors import FormatError

UNDEFINED = 0xFFFFFFFF
ITEM, ITEM_END, SEQUENCE_END = 0xFFFEE000, 0xFFFEE00D, 0xFFFEE0DD
PIXELS = (0x7FE00010, 0x7FE00008, 0x7FE00009)
"""Pixel data: integers, or floats of 32 or 64 bits. What follows is not read."""
LONG = frozenset(["OB", "OD", "OF", "OL", "OV", "OW", "SQ", "SV", "UC", "UN", "UR", "UT", "UV"])
"""Representations with a length of 32 bits in explicit VR (PS3.5 table 7.1-1)."""
_CHUNK = 16 << 10
_MOST_HELD = 1 << 20
"""Values longer than this stay in the file."""
_DEEPEST = 24
_NUMBERS = {"US": "H", "SS": "h", "UL": "I", "SL": "i", "FL": "f", "FD": "d", "SV": "q", "UV": "Q"}
_NUMERIC = (*_NUMBERS, "DS", "IS", "AT", "XS")
_WORDS = ("LO", "PN", "SH", "UC", "LT", "ST", "UT")
_WHOLE = ("LT", "ST", "UT", "UR")
"""Texts in which a backslash is a letter."""


@dataclass(frozen=True, slots=True)
class Coding:
    """How elements are written: byte order (``<`` or ``>``), and whether they name their VR."""

    order: str = "<"
    explicit: bool = True


@dataclass(slots=True)
class Element:
    """One data element: where its value lies, its bytes (unless too long), or its items."""

    tag: int
    representation: str
    offset: int
    length: int
    data: bytes = b""
    items: list[Dataset] = field(default_factory=list)


class Dataset:
    """Elements by tag, asked for by keyword."""

    __slots__ = ("_values", "elements", "name", "order", "sets")

    def __init__(self, name: str, order: str, sets: list[str]) -> None:
        self.elements: dict[int, Element] = {}
        self.name, self.order, self.sets = name, order, sets
        self._values: dict[str, list[Any]] = {}

    def __contains__(self, keyword: str) -> bool:
        return TAGS[keyword] in self.elements

    def values(self, keyword: str, group: int = 0) -> list[Any]:
        """Return all values of an element; none where it is not there. ``group`` is an overlay's.

        Raises FormatError, which names the element, where a number is none.
        """
        key = keyword if not group else f"{group}{keyword}"
        if key not in self._values:
            tag = TAGS[keyword] if not group else group << 16 | TAGS[keyword] & 0xFFFF
            element = self.elements.get(tag)
            self._values[key] = [] if element is None else self.of(element)
        return self._values[key]

    def of(self, element: Element) -> list[Any]:
        """Return an element's values: numbers, texts, bytes.

        What the dictionary says is a number is read as one, whatever the file calls it.
        """
        representation = element.representation
        meant = implied(element.tag)
        if meant in _NUMERIC and representation not in _NUMERIC:
            representation = meant
        if representation == "XS":
            representation = "SS" if self.number("PixelRepresentation", 0) == 1 else "US"
        try:
            return values_of(element.data, representation, self.order, self.sets)
        except (ValueError, struct.error) as error:
            keyword = (known(element.tag) or ("", ""))[1]
            said = "its value" if identifies(keyword or "(") else repr(element.data[:40])
            raise FormatError(
                f"{self.name}: {keyword} {written(element.tag)}: {said} is no {representation}"
            ) from error

    def text(self, keyword: str) -> str:
        """Return the first value as text; empty where there is none."""
        found = self.values(keyword)
        return str(found[0]).strip() if found else ""

    def number(self, keyword: str, otherwise: Any = None) -> Any:
        """Return the first value, a number; ``otherwise`` where there is none."""
        found = self.values(keyword)
        return found[0] if found else otherwise

    def count(self, keyword: str) -> int:
        """Return a number that only orders or names things: 0 where it is missing or none."""
        try:
            return int(self.number(keyword, 0))
        except (FormatError, ValueError, OverflowError):
            return 0

    def items(self, keyword: str) -> list[Dataset]:
        """Return the items of a sequence."""
        element = self.elements.get(TAGS[keyword])
        return [] if element is None else element.items

    def item(self, keyword: str) -> Dataset | None:
        """Return the first item of a sequence."""
        found = self.items(keyword)
        return found[0] if found else None


def values_of(data: bytes, representation: str, order: str, sets: list[str]) -> list[Any]:
    r"""Return the values of a representation's bytes (PS3.5 section 6.2).

    >>> values_of(b"0.5\\1e2 ", "DS", "<", []), values_of(b"A\\B ", "CS", "<", [])
    ([0.5, 100.0], ['A', 'B'])
    """
    if representation in _NUMBERS:
        code = _NUMBERS[representation]
        return list(struct.unpack(f"{order}{len(data) // struct.calcsize(code)}{code}", data))
    if representation == "AT":
        halves = struct.unpack(f"{order}{len(data) // 2}H", data)
        return [a << 16 | b for a, b in zip(halves[::2], halves[1::2], strict=True)]
    if representation in ("OB", "OW", "OF", "OD", "OL", "OV", "UN"):
        return [data] if data else []
    if representation in _WORDS:
        text = decoded(data, sets, name=representation == "PN")
    else:
        text = data.decode("latin_1")
    if representation in _WHOLE:
        text = text.rstrip(" \0")
        return [text] if text else []
    parts = [part.strip(" \0") for part in text.split("\\")]
    if parts == [""]:
        return []
    if representation == "DS":
        return [float(part) for part in parts if part]
    if representation == "IS":
        return [_whole(part) for part in parts if part]
    return parts


def _whole(text: str) -> int:
    try:
        return int(text)
    except ValueError:
        number = float(text)  # "1.0" stands in many files
        if not number.is_integer():
            raise
        return int(number)


class Parser:
    """Reads elements one after another from a file, of which it holds a piece at a time."""

    def __init__(self, file: ByteFile, coding: Coding, place: int) -> None:
        self.file, self.coding, self.place = file, coding, place
        self._start, self._held = 0, b""

    def dataset(
        self, end: int | None = None, *, meta: bool = False, sets: list[str] | None = None,
        depth: int = 0,
    ) -> Dataset:  # fmt: skip
        """Read elements up to ``end`` (None: an item's end mark, or the file's pixels or end)."""
        made = Dataset(self.file.name, self.coding.order, list(sets or []))
        stop = self.file.size if end is None else end
        while self.place + 8 <= stop:
            begin = self.place
            head = self.take(8)
            group, number = struct.unpack_from(self.coding.order + "HH", head)
            tag = group << 16 | number
            if tag == ITEM_END and end is None:
                return made
            if meta and tag >> 16 != 2:
                self.place = begin
                return made
            if tag in (SEQUENCE_END, ITEM):
                raise FormatError(f"{self.file.name}: byte {begin}: {written(tag)} where an "
                                  "element was expected")  # fmt: skip
            element = self._element(tag, head, made.sets, depth)
            made.elements[tag] = element
            if tag == 0x00080005:
                made.sets = [str(v) for v in made.of(element)]
            if depth == 0 and tag in PIXELS:
                return made
        if depth and end is None:
            raise FormatError(f"{self.file.name}: an item has no end mark; the file is cut short")
        return made

    def _element(self, tag: int, head: bytes, sets: list[str], depth: int) -> Element:
        """Read an element of which the first eight bytes, ``head``, are read already."""
        begin = self.place - 8
        representation, length = self._head(tag, head)
        start = self.place
        if depth == 0 and tag in PIXELS:
            return Element(tag, representation, start, length)
        if representation == "UN" and implied(tag) != "UN" and length != UNDEFINED:
            representation = implied(tag)  # PS3.5 6.2.2: what is known need not stay unknown
            if representation == "SQ":
                return self._sequence(tag, length, sets, depth, Coding("<", False))
        if representation == "SQ" or (length == UNDEFINED and representation == "UN"):
            coding = self.coding if representation == "SQ" else Coding("<", False)
            return self._sequence(tag, length, sets, depth, coding)
        if length == UNDEFINED and representation in ("OB", "OW"):
            return self._fragments(tag, representation)
        if length == UNDEFINED or start + length > self.file.size:
            claimed = "no length" if length == UNDEFINED else f"{length} bytes"
            raise FormatError(
                f"{self.file.name}: element {written(tag)} at byte {begin} claims {claimed}; the "
                f"file has {self.file.size} in all and may be cut short"
            )
        data = self.take(length) if length <= _MOST_HELD else b""
        self.place = start + length
        return Element(tag, representation, start, length, data)

    def _fragments(self, tag: int, representation: str) -> Element:
        """Pass over packed pixels inside an item (an icon's, say)."""
        element = Element(tag, representation, self.place, UNDEFINED)
        while True:
            begin = self.place
            mark = self._tag()
            size = self._length()
            if mark == SEQUENCE_END:
                return element
            if mark != ITEM or self.place + size > self.file.size:
                raise FormatError(f"{self.file.name}: byte {begin}: expected a fragment of "
                                  f"{written(tag)}, found {written(mark)}")  # fmt: skip
            self.place += size

    def _sequence(
        self, tag: int, length: int, sets: list[str], depth: int, coding: Coding
    ) -> Element:
        if depth >= _DEEPEST:
            raise FormatError(f"{self.file.name}: sequence {written(tag)} lies {depth} deep")
        element = Element(tag, "SQ", self.place, length)
        before, self.coding = self.coding, coding
        end = None if length == UNDEFINED else self.place + length
        if end is not None and end > self.file.size:
            raise FormatError(f"{self.file.name}: sequence {written(tag)} claims {length} bytes; "
                              "the file ends before")  # fmt: skip
        while end is None or self.place < end:
            begin = self.place
            mark = self._tag()
            size = self._length()
            if mark == SEQUENCE_END and end is None:
                break
            if mark != ITEM or (size != UNDEFINED and self.place + size > self.file.size):
                raise FormatError(
                    f"{self.file.name}: byte {begin}, in sequence {written(tag)}: expected an "
                    f"item inside the file, found {written(mark)} of {size} bytes"
                )
            stop = None if size == UNDEFINED else self.place + size
            element.items.append(self.dataset(stop, sets=sets, depth=depth + 1))
            if stop is not None:
                self.place = stop
        self.coding = before
        return element

    def _head(self, tag: int, head: bytes) -> tuple[str, int]:
        if not self.coding.explicit:
            return implied(tag), int(struct.unpack_from(self.coding.order + "I", head, 4)[0])
        representation = head[4:6].decode("latin_1")
        if representation in LONG:
            return representation, self._length()
        if not (representation.isalpha() and representation.isupper()):
            raise FormatError(
                f"{self.file.name}: element {written(tag)} at byte {self.place - 8}: expected a "
                f"value representation of two letters, found {head[4:6]!r}"
            )
        return representation, int(struct.unpack_from(self.coding.order + "H", head, 6)[0])

    def _tag(self) -> int:
        group, number = struct.unpack(self.coding.order + "HH", self.take(4))
        return int(group << 16 | number)

    def _length(self) -> int:
        (length,) = struct.unpack(self.coding.order + "I", self.take(4))
        return int(length)

    def take(self, count: int) -> bytes:
        """Return the next bytes; a piece of the file is fetched where they are not held."""
        begin = self.place - self._start
        if begin < 0 or begin + count > len(self._held):
            left = self.file.size - self.place
            if count > left:
                raise FormatError(
                    f"{self.file.name}: {count} bytes at {self.place} lie past the end of the file "
                    f"({self.file.size} bytes); it may be cut short"
                )
            self._held = self.file.read(self.place, min(left, max(count, _CHUNK)))
            self._start, begin = self.place, 0
        self.place += count
        return self._held[begin : begin + count]
