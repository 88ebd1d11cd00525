"""Layouts of headerless binaries from notes beside them: which words say what.

Notes are read by ``formats.notes``. A key counts by its words; what no word here says is passed
over. Types are said by names, never by numbers, which mean another type to every program.
"""

from __future__ import annotations

import os
import re
from typing import Any

from spectrane.formats.notes import read_notes, words_of
from spectrane.model.errors import MetadataError, SpectraneError, nearest
from spectrane.model.number_types import NUMBER_TYPES

WORDS: dict[str, tuple[str, ...]] = {
    "rows": ("rows", "row count", "number of rows", "nrows", "lines", "nlines", "number of lines",
             "height"),
    "columns": ("columns", "column count", "number of columns", "ncolumns", "ncols", "cols",
                "samples", "nsamples", "number of samples", "width"),
    "bands": ("bands", "nbands", "number of bands", "channels", "nchannels"),
    "bits": ("bits", "nbits", "bits per sample", "bits per pixel", "bit depth"),
    "type": ("type", "data type", "datatype", "number type", "pixel type", "sample type"),
    "order": ("order", "byte order", "byteorder", "endian", "endianness"),
    "interleave": ("interleave", "interleaving"),
    "header": ("header", "header bytes", "header size", "header offset", "offset", "byte offset",
               "skip", "skip bytes"),
}  # fmt: skip
"""The words of a key that say each part of a layout."""
TYPES: dict[str, str] = {
    "byte": "uint8", "unsigned byte": "uint8", "unsigned char": "uint8", "signed byte": "int8",
    "short": "int16", "signed short": "int16", "unsigned short": "uint16", "long": "int32",
    "signed long": "int32", "unsigned long": "uint32", "int": "int32", "integer": "int32",
    "unsigned int": "uint32", "float": "float32", "single": "float32", "real": "float32",
    "double": "float64", "half": "float16",
}  # fmt: skip
"""Names of types besides NumPy's own (``uint16``)."""
_ORDERS = {
    "little": "little", "little endian": "little", "lsb": "little", "lsb first": "little",
    "intel": "little", "big": "big", "big endian": "big", "msb": "big", "msb first": "big",
    "motorola": "big", "network": "big",
}  # fmt: skip
_WAYS = {
    "bsq": "bsq", "band sequential": "bsq", "bil": "bil", "band interleaved by line": "bil",
    "bip": "bip", "band interleaved by pixel": "bip",
}  # fmt: skip
_BY_BITS = {8: "uint8", 16: "uint16"}
_ENDINGS = (".hdr", ".txt", ".note", ".notes", ".meta", ".info")


def layout_in(path: str | os.PathLike[str]) -> dict[str, Any]:
    """Return the parts of a layout that notes say, as ``RawTable`` has them.

    Raises MetadataError where a value is none, is a code, or two keys say different things.
    """
    name = os.fspath(path)
    found: dict[str, Any] = {}
    by: dict[str, str] = {}
    for key, text in read_notes(path):
        part = _part(key)
        if part is None:
            continue
        value = _value(part, text, f"{name}: {key} = {text}")
        if part in found and found[part] != value:
            both = f"{by[part]} and {key} say" if by[part] != key else f"its lines of {key} say"
            raise MetadataError(f"{name}: {both} different {part}: {found[part]} and {value}")
        found[part], by[part] = value, key
    if not found:
        known = ", ".join(words[0] for words in WORDS.values())
        raise MetadataError(f"{name}: says nothing of a layout; expected lines such as rows = 550 "
                            f"(words: {known}, …)")  # fmt: skip
    return _with_type(found, name)


def _part(key: str) -> str | None:
    said = " ".join(words_of(re.sub(r"\(.*?\)", "", key)))
    return next((part for part, words in WORDS.items() if said in words), None)


def _value(part: str, text: str, told: str) -> Any:
    said = " ".join(words_of(text))
    if part in ("rows", "columns", "bands", "bits", "header"):
        number = re.fullmatch(r"(\d{1,12})( bytes?| bits?| pixels?)?", said)
        if number is None:
            raise MetadataError(f"{told}: expected a whole number")
        return int(number[1])
    if part == "type":
        return _type(said, told)
    known = _ORDERS if part == "order" else _WAYS
    if said.isdecimal():
        raise MetadataError(f"{told}: a code, which means one thing here and another there; say "
                            f"it by name: --{part} {next(iter(known))}")  # fmt: skip
    if said not in known:
        raise MetadataError(f"{told}{nearest(said, known)}")
    return known[said]


def _type(said: str, told: str) -> str:
    if said.isdecimal():
        raise MetadataError(f"{told}: a code, which means one type here and another there; say it "
                            "by name: --type uint16")  # fmt: skip
    joined = said.replace(" ", "")
    bits = re.fullmatch(r"(\d+) ?bits? (signed|unsigned)( int(?:eger)?)?", said)
    if bits is not None:
        joined = f"{'u' if bits[2] == 'unsigned' else ''}int{bits[1]}"
    if joined in NUMBER_TYPES:
        return joined
    if said in TYPES:
        return TYPES[said]
    raise MetadataError(f"{told}{nearest(said, [*NUMBER_TYPES, *TYPES])}")


def _with_type(found: dict[str, Any], name: str) -> dict[str, Any]:
    """Let bits say the type where nothing else does, and agree with it where something does."""
    bits = found.pop("bits", None)
    if bits is None:
        return found
    if "type" not in found:
        if bits not in _BY_BITS:
            raise MetadataError(f"{name}: {bits} bits may be of several types; say which: --type "
                                f"int{bits} or float{bits}")  # fmt: skip
        return found | {"type": _BY_BITS[bits]}
    own = int(re.sub(r"\D", "", found["type"]))
    if own != bits:
        raise MetadataError(f"{name}: says the type {found['type']} and {bits} bits")
    return found


def notes_beside(path: str) -> str | None:
    """Return the name of a neighbour whose notes may describe a binary; None where none does.

    The notes must say rows and columns.
    """
    folder, name = os.path.split(path)
    stem = os.path.splitext(name)[0]
    for ending in _ENDINGS:
        for beside in (f"{name}{ending}", f"{stem}{ending}"):
            if beside == name or not os.path.isfile(os.path.join(folder, beside)):
                continue
            try:
                found = layout_in(os.path.join(folder, beside))
            except (SpectraneError, OSError):
                continue
            if {"rows", "columns"} <= found.keys():
                return beside
    return None
