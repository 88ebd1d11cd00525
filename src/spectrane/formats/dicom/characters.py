"""Text of DICOM elements: the character sets of PS3.3 C.12.1.1.2 and their code extensions."""

from __future__ import annotations

import re
from collections.abc import Sequence

_SINGLE = {
    "": "ascii", "ISO_IR 6": "ascii", "ISO_IR 100": "latin_1", "ISO_IR 101": "iso8859_2",
    "ISO_IR 109": "iso8859_3", "ISO_IR 110": "iso8859_4", "ISO_IR 144": "iso8859_5",
    "ISO_IR 127": "iso8859_6", "ISO_IR 126": "iso8859_7", "ISO_IR 138": "iso8859_8",
    "ISO_IR 148": "iso8859_9", "ISO_IR 166": "iso8859_11", "ISO_IR 203": "iso8859_15",
    "ISO_IR 13": "shift_jis", "ISO_IR 192": "utf_8", "GB18030": "gb18030", "GBK": "gbk",
    "ISO_IR 149": "euc_kr", "ISO_IR 58": "gb2312", "ISO_IR 87": "ascii", "ISO_IR 159": "ascii",
}  # fmt: skip
"""Defined term, ``2022`` left out -> codec of the text before any escape sequence."""
# Escape sequence -> (which half of the code table it sets, codec).
_ESCAPES = {
    b"(B": (0, "ascii"), b"(J": (0, "shift_jis"), b"$B": (0, "jisx0208"), b"$@": (0, "jisx0208"),
    b"$(D": (0, "jisx0212"), b")I": (1, "shift_jis"), b"$)C": (1, "euc_kr"), b"$)A": (1, "gb2312"),
    b"-A": (1, "latin_1"), b"-B": (1, "iso8859_2"), b"-C": (1, "iso8859_3"),
    b"-D": (1, "iso8859_4"), b"-L": (1, "iso8859_5"), b"-G": (1, "iso8859_6"),
    b"-F": (1, "iso8859_7"), b"-H": (1, "iso8859_8"), b"-M": (1, "iso8859_9"),
    b"-T": (1, "iso8859_11"), b"-b": (1, "iso8859_15"),
}  # fmt: skip
_SPLIT = re.compile(rb"(\x1b(?:\$\([A-Z]|\$\)[A-Z]|\$[@AB]|[()\-][A-Za-z]))")
_RUNS = re.compile(rb"[\x00-\x7f]+|[\x80-\xff]+")


def decoded(raw: bytes, sets: Sequence[str], *, name: bool = False) -> str:
    r"""Return text; what its set does not have becomes U+FFFD.

    ``sets`` are the values of Specific Character Set; a person's ``name`` goes back to the first
    one at ``^`` and ``=`` too, as every text does at a backslash and at the end of a line.

    >>> decoded(b"Buc^J\xe9r\xf4me", ["ISO_IR 100"])
    'Buc^Jérôme'
    >>> decoded(b"\x1b$B;3ED\x1b(B^\x1b$BB@O:\x1b(B", ["", "ISO 2022 IR 87"], name=True)
    '山田^太郎'
    """
    first = plain_term(sets[0]) if sets else ""
    codec = _SINGLE.get(first, "latin_1")
    if b"\x1b" not in raw or codec in ("utf_8", "gb18030", "gbk"):
        return raw.decode(codec, "replace")
    low = "shift_jis" if codec == "shift_jis" else "ascii"
    ends = rb"([\\\r\n\f\t^=])" if name else rb"([\\\r\n\f\t])"
    halves = [low, codec]
    out = []
    for piece in _SPLIT.split(raw):
        if piece[:1] == b"\x1b":
            half, chosen = _ESCAPES.get(piece[1:], (0, "ascii"))
            halves[half] = chosen
            continue
        for part in [piece] if halves[0].startswith("jis") else re.split(ends, piece):
            out.append(_run(part, halves))
            if re.fullmatch(ends, part):
                halves = [low, codec]
    return "".join(out)


def plain_term(term: str) -> str:
    """Return a defined term without what says that code extensions are used.

    >>> plain_term("ISO 2022 IR 100 ")
    'ISO_IR 100'
    """
    return term.strip().upper().replace("ISO 2022 IR", "ISO_IR").replace("ISO-IR", "ISO_IR")


def known_set(term: str) -> bool:
    """Tell whether a defined term is one of the standard's that can be decoded."""
    return plain_term(term) in _SINGLE


def _run(raw: bytes, halves: list[str]) -> str:
    """Decode text without escapes: low bytes by the first half's set, high ones by the second's."""
    if halves[0].startswith("jis"):
        pairs = bytes(byte | 0x80 for byte in raw)
        if halves[0] == "jisx0212":
            pairs = b"".join(b"\x8f" + pairs[k : k + 2] for k in range(0, len(pairs), 2))
        return pairs.decode("euc_jp", "replace")
    return "".join(
        part.decode(halves[part[0] >> 7], "replace") for part in _RUNS.findall(raw)
    )  # fmt: skip
