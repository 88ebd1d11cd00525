"""Notes beside data: small text files of ``key = value``, ``key: value`` or ``key value`` lines.

What keys mean is for who reads them; here they are only told apart from their values. Lines that
hold no key, comments (``#``, ``;``, ``//``) and names of groups are passed over.
"""

from __future__ import annotations

import os
import re

from spectrane.model.errors import MetadataError
from spectrane.model.regular_files import read_small_text

_LARGEST = 1 << 20
_SAID = re.compile(r"\s*([A-Za-z][\w .()/-]*?)\s*[=:]\s*(.*?)\s*$")
_PLAIN = re.compile(r"\s*([A-Za-z][\w()-]*)\s+([-+.\w]+)\s*$")


def read_notes(path: str | os.PathLike[str]) -> list[tuple[str, str]]:
    """Return the keys of a notes file, as they are written, each with its value as text.

    A key may stand there several times, with other values. Raises MetadataError for what is no
    small text, or holds no key.
    """
    text = read_small_text(path, _LARGEST, MetadataError, "notes")
    found: list[tuple[str, str]] = []
    for line in text.splitlines():
        if line.lstrip().startswith(("#", ";", "//")):
            continue
        said = _SAID.match(line) or _PLAIN.match(line)
        if said is not None and said[2]:
            found.append((said[1].strip(), said[2].strip().strip("\"'").rstrip(";").strip()))
    if not found:
        raise MetadataError(f"{os.fspath(path)}: holds no notes; expected lines of key = value")
    return found


def words_of(key: str) -> tuple[str, ...]:
    """Return the words of a key, small: letters and digits apart from all else.

    >>> words_of("REFLECTANCE_MULT_BAND_4"), words_of("header offset (bytes)")
    (('reflectance', 'mult', 'band', '4'), ('header', 'offset', 'bytes'))
    """
    return tuple(word for word in re.split(r"[^a-z0-9]+", key.lower()) if word)
