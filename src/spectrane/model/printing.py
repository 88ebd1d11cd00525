"""Text from files and paths on its way to a terminal or into JSON."""

from __future__ import annotations

from spectrane.model.addresses import file_name

MOST_LINES = 500
"""So many rows of a table are said, and how many more there are; files and JSON have all."""


def printable(text: str) -> str:
    """Replace what could steer a terminal: control characters, and halves of characters.

    A line's end stays one; see ``printable_line``.

    >>> printable("a" + chr(27) + "[2Jb" + chr(0xDCFF))
    'a?[2Jb?'
    """
    if text.isprintable():
        return text
    return "\n".join(
        line if line.isprintable() else "".join(ch if ch.isprintable() else "?" for ch in line)
        for line in text.split("\n")
    )


def printable_line(text: str) -> str:
    """Return a text as one line that steers no terminal.

    >>> printable_line("two" + chr(10) + "lines")
    'two?lines'
    """
    return printable(text).replace("\n", "?")


def whole_text(text: str) -> str:
    r"""Return a text whose bytes that are no characters are written out, as UTF-8 can hold it.

    >>> print(whole_text("bad" + chr(0xDCFF) + ".tif"))
    bad\udcff.tif
    """
    return text.encode("utf-8", "backslashreplace").decode()


def short_name(path: str, otherwise: str = "an array in memory") -> str:
    """Return the last part of a path as people may read it anywhere: captions, titles, tables.

    >>> short_name("scenes/a" + chr(27) + ".tif"), short_name("")
    ('a?.tif', 'an array in memory')
    >>> short_name("zip://in/b.tif::/data/pack.zip")
    'b.tif'
    """
    return printable_line(whole_text(file_name(path))) or otherwise


def share_text(share: float) -> str:
    """Return a share 0...1 as a percentage; what rounding would make nothing, or all, is said so.

    >>> share_text(0.5), share_text(0), share_text(1e-6), share_text(0.99999)
    ('50.0%', '0.0%', 'under 0.1%', 'over 99.9%')
    """
    if 0 < share < 0.0005:
        return "under 0.1%"
    return "over 99.9%" if 0.9995 <= share < 1 else f"{share:.1%}"
