"""Look-up tables and windows: modality, VOI (PS3.3 C.11.1, C.11.2), palettes (C.7.9)."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from spectrane.formats.dicom.dictionary import TAGS
from spectrane.formats.dicom.elements import Dataset
from spectrane.formats.dicom.head import DicomHead
from spectrane.kernels.records import record
from spectrane.model.display_window import FUNCTIONS, DisplayWindow
from spectrane.model.errors import FormatError
from spectrane.model.look import Class
from spectrane.model.telling import warn_caller

_COLORS = ("Red", "Green", "Blue")
_MOST_ENTRIES = 1 << 16


@record(frozen=True)
class Lookup:
    """A table of whole numbers: entry 0 is for ``first`` and below, the last for all above."""

    first: int
    entries: NDArray[np.uint16]
    bits: int
    explanation: str = ""

    def applied(self, numbers: NDArray[np.generic]) -> NDArray[np.uint16]:
        """Return the entries of numbers of any shape."""
        at = np.clip(numbers.astype(np.int64) - self.first, 0, len(self.entries) - 1)
        return self.entries[at]


def lookup_of(
    item: Dataset, descriptor: str, data: str, signed: bool, explanation: str = ""
) -> Lookup:
    """Read a table by its descriptor: number of entries (0 is 65536), first number, bits."""
    numbers = _descriptor(item, descriptor)
    count = numbers[0] or _MOST_ENTRIES
    first = numbers[1] - 65536 if signed and numbers[1] > 32767 else numbers[1]
    bits = numbers[2]
    element = item.elements.get(TAGS[data])
    raw = b"" if element is None else element.data
    if not 8 <= bits <= 16 or len(raw) < count:
        raise FormatError(
            f"{item.name}: {descriptor} says {count} entries of {bits} bits; {data} has {len(raw)} "
            "bytes, where 8 to 16 bits each are expected"
        )
    if len(raw) >= 2 * count:
        entries = np.frombuffer(raw, f"{item.order}u2", count).astype(np.uint16)
    else:  # two entries of 8 bits to a word, the lower byte first
        packed = raw if item.order == "<" else _turned(raw)
        entries = np.frombuffer(packed, np.uint8, count).astype(np.uint16)
    return Lookup(first, entries, bits, explanation)


def _turned(raw: bytes) -> bytes:
    return np.frombuffer(raw[: len(raw) & ~1], ">u2").astype("<u2").tobytes() + raw[len(raw) & ~1 :]


def _descriptor(item: Dataset, keyword: str) -> tuple[int, int, int]:
    element = item.elements.get(TAGS[keyword])
    raw = b"" if element is None else element.data
    if len(raw) != 6:
        raise FormatError(f"{item.name}: {keyword} has {len(raw)} bytes; expected three numbers")
    numbers = np.frombuffer(raw, f"{item.order}u2").tolist()
    return int(numbers[0]), int(numbers[1]), int(numbers[2])


def modality_lookup(data: Dataset, signed: bool) -> Lookup | None:
    """Return the modality LUT, which stands in the place of slope and intercept."""
    item = data.item("ModalityLUTSequence")
    if item is None:
        return None
    return lookup_of(item, "LUTDescriptor", "LUTData", signed, item.text("ModalityLUTType"))


def windows_of(data: Dataset, signed: bool) -> tuple[DisplayWindow, ...]:
    """Return the windows and VOI tables of a data set, windows first, each as it stands.

    ``signed`` tells whether what the tables are entered with may be negative. A window whose width
    the standard does not allow is left out with a warning.
    """
    centers, widths = data.values("WindowCenter"), data.values("WindowWidth")
    if len(centers) != len(widths):
        raise FormatError(
            f"{data.name}: {len(centers)} values of WindowCenter (0028,1050) and {len(widths)} of "
            "WindowWidth (0028,1051); expected as many of both"
        )
    function = data.text("VOILUTFunction") or "LINEAR"
    if function not in FUNCTIONS:
        raise FormatError(f"{data.name}: VOILUTFunction (0028,1056) is {function!r}; expected "
                          f"{', '.join(FUNCTIONS)}")  # fmt: skip
    said = [*map(str, data.values("WindowCenterWidthExplanation")), *[""] * len(centers)]
    windows = []
    for center, width, explanation in zip(centers, widths, said, strict=False):
        if width < 1 if function == "LINEAR" else width <= 0:
            warn_caller(
                f"{data.name}: WindowWidth {width:g} is not allowed for {function}; the window "
                f"{center:g},{width:g} is left out"
            )
            continue
        windows.append(DisplayWindow(center, width, function, explanation))
    for item in data.items("VOILUTSequence"):
        table = lookup_of(item, "LUTDescriptor", "LUTData", signed, item.text("LUTExplanation"))
        levels = np.minimum(table.entries / (2.0**table.bits - 1), 1.0)
        middle, count = table.first + (len(levels) - 1) / 2, len(levels)
        windows.append(DisplayWindow(middle, float(count), "TABLE", table.explanation,
                                   float(table.first), tuple(levels.tolist())))  # fmt: skip
    return tuple(windows)


def palette_of(data: Dataset, signed: bool, bits: int) -> dict[float, Class]:
    """Return the colours of a palette as classes: one per number of so many bits.

    Numbers below those it maps take its first entry, numbers above its last (C.7.6.3.1.5).
    """
    tables = [_palette(data, color, signed) for color in _COLORS]
    if len({(table.first, len(table.entries)) for table in tables}) > 1:
        raise FormatError(f"{data.name}: the palettes of red, green and blue differ in length")
    levels = [
        np.floor(table.entries * (255.0 / (2.0**table.bits - 1)) + 0.5).astype(int).tolist()
        for table in tables
    ]
    colors = [f"#{r:02x}{g:02x}{b:02x}" for r, g, b in zip(*levels, strict=True)]
    least = -(1 << bits - 1) if signed else 0
    first, last = tables[0].first, len(colors) - 1
    return {float(number): (colors[min(max(number - first, 0), last)], "")
            for number in range(least, least + (1 << bits))}  # fmt: skip


def _palette(data: Dataset, color: str, signed: bool) -> Lookup:
    descriptor = f"{color}PaletteColorLookupTableDescriptor"
    segmented = f"Segmented{color}PaletteColorLookupTableData"
    if segmented not in data:
        table = lookup_of(data, descriptor, f"{color}PaletteColorLookupTableData", signed)
        return _widened(table)
    count, first, bits = _descriptor(data, descriptor)
    count = count or _MOST_ENTRIES
    raw = data.elements[TAGS[segmented]].data
    words = np.frombuffer(raw[: len(raw) & ~1], f"{data.order}u2").astype(int).tolist()
    entries = _segments(words, count)
    if len(entries) != count:
        raise FormatError(f"{data.name}: {segmented} makes {len(entries)} entries; its descriptor "
                          f"says {count}")  # fmt: skip
    first = first - 65536 if signed and first > 32767 else first
    return Lookup(first, np.asarray(entries, np.uint16), bits)


def _widened(table: Lookup) -> Lookup:
    """Return a palette whose entries of 8 bits say 16 in their descriptor, as many do, mended."""
    narrow = table.bits == 16 and len(table.entries) and int(table.entries.max()) < 256
    return Lookup(table.first, table.entries, 8) if narrow else table


def _segments(words: Sequence[int], most: int) -> list[int]:
    """Expand segments (PS3.3 C.7.9.2): discrete, linear, or indirect (earlier ones again)."""
    entries: list[int] = []
    starts: list[int] = []
    place = 0
    again: list[tuple[int, int]] = []  # (where to go on, segments left)
    while (place < len(words) or again) and len(entries) <= most:
        if again and again[-1][1] == 0:
            place = again.pop()[0]
            continue
        if again:
            again[-1] = (again[-1][0], again[-1][1] - 1)
        else:
            starts.append(place)
        kind, length = (*words[place : place + 2], 0, 0)[:2]
        if kind == 0:
            entries += words[place + 2 : place + 2 + length]
            place += 2 + length
        elif kind == 1:
            end = (*words[place + 2 : place + 3], 0)[0]
            begin = entries[-1] if entries else 0
            entries += [round(begin + (end - begin) * k / length) for k in range(1, length + 1)]
            place += 3
        elif kind == 2 and len(again) < 1:
            low, high = (*words[place + 2 : place + 4], 0, 0)[:2]
            target = (low | high << 16) // 2  # bytes from the first segment on
            if target not in starts:
                raise FormatError(f"palette: segment {len(starts)} points at word {target}, where "
                                  "no segment begins")  # fmt: skip
            again.append((place + 4, length))
            place = target
        else:
            raise FormatError(f"palette: segment of type {kind}; expected 0, 1 or 2")
    return entries


def padding_of(head: DicomHead) -> int | float | tuple[tuple[float, float], ...] | None:
    """Return the stored numbers that pad an image (C.7.5.1.1.2): one, or a closed range."""
    data = head.data
    if head.layout.floating:
        kind = "Float" if head.layout.allocated == 32 else "DoubleFloat"
        names = (f"{kind}PixelPaddingValue", f"{kind}PixelPaddingRangeLimit")
        numbers = [data.number(name) for name in names]
    else:
        numbers = [_stored(head, name) for name in ("PixelPaddingValue", "PixelPaddingRangeLimit")]
    value: int | float | None = numbers[0]
    limit: int | float | None = numbers[1]
    if value is None or limit is None:
        return value
    return ((min(value, limit), max(value, limit)),)


def _stored(head: DicomHead, keyword: str) -> int | None:
    """Return a number that is signed as the pixels are, whatever its element claims."""
    element = head.data.elements.get(TAGS[keyword])
    if element is None or len(element.data) < 2:
        return None
    code = "i2" if head.layout.signed else "u2"
    return int(np.frombuffer(element.data[:2], head.data.order + code)[0])
