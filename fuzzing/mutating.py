"""Structure-aware changes: each takes a file apart as its format does, and spoils one part of it.

A mutator is a function of a random generator and the bytes; what it cannot take apart (any more)
it changes byte by byte.
"""

from __future__ import annotations

import contextlib
import gzip
import io
import json
import re
import sqlite3
import struct
import tempfile
import tomllib
import zipfile
import zlib
from collections.abc import Callable
from random import Random
from typing import Any

Mutator = Callable[[Random, bytes], bytes]

NUMBERS = (0, 1, 2, 3, 4, 7, 8, 15, 16, 255, 256, 32767, 65535, 2**31 - 1, 2**31, 2**32 - 1)
WORDS = (b"\xff\xff\xff\xff", b"\0\0\0\0", b"\x7f\xff\xff\xff", b"\x80\0\0\0", b"9999", b"    ",
         b"-1  ", b"nan ", b"1e99", b"\0")  # fmt: skip
TEXTS = ("", " ", "-1", "0", "nan", "1e400", "9" * 30, "x" * 3000, "\x1b[31m", "\0", "\u202e", "é",
         "../../a", "EPSG:4326", "EPSG:99999", "=1+1", "true", "1,2", "%s%n", "{0}")  # fmt: skip
VALUES: tuple[Any, ...] = (None, True, False, 0, 1, -1, 2**31, 2**64, -(10**30), 1e308, 1e-320,
                           float("nan"), float("inf"), [], {}, [[]], [1], {"a": 1},
                           *TEXTS)  # fmt: skip


def any_bytes(random: Random, data: bytes) -> bytes:
    """Change bytes anywhere, most often at the front: flip, overwrite, cut, double, drop."""
    out = bytearray(data)
    for _ in range(random.randint(1, 4)):
        place = int(random.random() ** random.choice((1, 3)) * max(0, len(out) - 1))
        kind = random.randrange(7)
        if not out:
            break
        if kind <= 1:
            out[place] = random.randrange(256)
        elif kind == 2:
            out[place] ^= 1 << random.randrange(8)
        elif kind == 3:
            word = random.choice(WORDS)
            out[place : place + len(word)] = word
        elif kind == 4:
            number, size = random.choice(NUMBERS), random.choice((1, 2, 4, 8))
            raw = (number % 256**size).to_bytes(size, random.choice(("little", "big")))
            out[place : place + size] = raw
        elif kind == 5:
            length = random.randint(1, 400)
            out[place:place] = out[place : place + length]
        elif random.random() < 0.3:
            del out[place:]
        else:
            del out[place : place + random.randint(1, 60)]
    return bytes(out)


def tiff(random: Random, data: bytes) -> bytes:
    """Change entries of directories: tag, type, count, value; swap, drop or double them."""
    order = "<" if data[:1] == b"I" else ">"
    big = data[2:4] in (b"+\0", b"\0+")
    size, head, step, word = (20, "Q", 8, "Q") if big else (12, "H", 2, "L")
    out = bytearray(data)
    places: list[int] = []
    with contextlib.suppress(struct.error):
        (start,) = struct.unpack_from(order + word, data, 8 if big else 4)
        while start and len(places) < 400:
            (count,) = struct.unpack_from(order + head, data, start)
            places += [start + step + size * k for k in range(min(count, 100))]
            (start,) = struct.unpack_from(order + word, data, start + step + size * count)
    if not places:
        return any_bytes(random, data)
    for _ in range(random.randint(1, 3)):
        place, kind = random.choice(places), random.randrange(6)
        number = random.choice((*NUMBERS, random.randrange(2**16), len(data) - 1))
        wide = size - 4 - step if not big else 8
        if kind == 0:
            struct.pack_into(order + "H", out, place, random.choice((*range(254, 342), 33550, 33922,
                             34264, 34735, 34736, 34737, 42112, 42113, 700, 34665)))  # fmt: skip
        elif kind == 1:
            struct.pack_into(order + "H", out, place + 2, random.randrange(20))
        elif kind == 2:
            struct.pack_into(order + word, out, place + 4, number)
        elif kind == 3:
            struct.pack_into(order + word, out, place + 4 + (8 if big else 4), number)
        elif kind == 4:
            other = random.choice(places)
            out[place + 2 : place + size] = data[other + 2 : other + size]
        else:
            struct.pack_into(order + "H", out, place + size - wide, number & 0xFFFF)
    return bytes(out)


def cards(random: Random, data: bytes) -> bytes:
    """Change FITS cards of 80 characters: keyword, value, order; drop or double them."""
    out = [data[k : k + 80] for k in range(0, len(data), 80)]
    heads = [k for k, card in enumerate(out) if re.match(rb"[A-Z0-9_-]{1,8} *(=|$)", card)]
    for _ in range(random.randint(1, 3)):
        if not heads:
            return any_bytes(random, data)
        place, kind = random.choice(heads), random.randrange(4)
        if kind <= 1:
            value = str(random.choice((*NUMBERS, *TEXTS, -32, -64, 8, "T", "F", "'abc'", "'")))
            card = out[place][:8] + b"= " + value.encode("latin-1", "replace")[:70].rjust(20)
            out[place] = card[:80].ljust(80)
        elif kind == 2:
            other = random.choice(heads)
            out[place], out[other] = out[other], out[place]
        else:
            out[place] = out[random.choice(heads)][:8] + out[place][8:]
    return b"".join(out)


def chunks(random: Random, data: bytes) -> bytes:
    """Change PNG chunks with right checksums: their data, kind, order; drop or double them."""
    parts, place = [], 8
    with contextlib.suppress(struct.error):
        while place + 8 <= len(data):
            (length,) = struct.unpack_from(">L", data, place)
            parts.append((data[place + 4 : place + 8], data[place + 8 : place + 8 + length]))
            place += 12 + length
    if not parts:
        return any_bytes(random, data)
    for _ in range(random.randint(1, 3)):
        number, kind = random.randrange(len(parts)), random.randrange(5)
        name, body = parts[number]
        if kind <= 1:
            inner = body
            if name in (b"IDAT", b"zTXt", b"iCCP") and random.random() < 0.5:
                with contextlib.suppress(zlib.error):
                    inner = zlib.compress(any_bytes(random, zlib.decompress(body)))
            parts[number] = name, any_bytes(random, body) if inner is body else inner
        elif kind == 2:
            parts[number] = random.choice(parts)[0], body
        elif kind == 3:
            parts.insert(random.randrange(len(parts)), parts[number])
        else:
            del parts[number]
            if not parts:
                break
    return data[:8] + b"".join(struct.pack(">L", len(body)) + name + body
                               + struct.pack(">L", zlib.crc32(name + body))
                               for name, body in parts)  # fmt: skip


def segments(random: Random, data: bytes) -> bytes:
    """Change JPEG segments, or JPEG 2000 markers: lengths, what they hold; swap, drop, double."""
    places = [found.start() for found in re.finditer(rb"\xff[\x01-\xfe]", data)]
    if not places:
        return any_bytes(random, data)
    place = random.choice(places[:40])
    out, kind = bytearray(data), random.randrange(5)
    if kind == 0:
        out[place + 1 : place + 2] = bytes([random.randrange(256)])
    elif kind == 1:
        out[place + 2 : place + 4] = struct.pack(">H", random.choice(NUMBERS) & 0xFFFF)
    elif kind == 2:
        after = place + 4 + random.randrange(24)
        out[after : after + 1] = bytes([random.randrange(256)])
    elif kind == 3:
        end = random.choice(places)
        out[place:place] = data[min(place, end) : max(place, end)][:4000]
    else:
        end = min((one for one in places if one > place), default=len(data))
        del out[place:end]
    return bytes(out)


def packed(inner: Mutator) -> Mutator:
    """Return a mutator of what lies in a gzip file."""

    def change(random: Random, data: bytes) -> bytes:
        if random.random() < 0.3:
            return any_bytes(random, data)
        return gzip.compress(inner(random, gzip.decompress(data)), 1)

    return change


def archived(inner: dict[str, Mutator]) -> Mutator:
    """Return a mutator of the members of a zip archive, by their ending; or of the archive."""

    def change(random: Random, data: bytes) -> bytes:
        if random.random() < 0.3:
            return any_bytes(random, data)
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            members = {info.filename: archive.read(info) for info in archive.infolist()}
        name = random.choice(list(members))
        kind = random.random()
        if kind < 0.8:
            mutate = next((m for end, m in inner.items() if name.endswith(end)), any_bytes)
            members[name] = mutate(random, members[name])
        elif kind < 0.9:
            del members[name]
        else:
            members[random.choice(TEXTS).replace("\0", "0") + name] = members.pop(name)
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", random.choice((0, 8, 12, 14))) as archive:
            for member, body in members.items():
                archive.writestr(member, body)
        return out.getvalue()

    return change


def elements(random: Random, data: bytes) -> bytes:
    """Change DICOM elements: value representation, length, value; drop or double them."""
    out = bytearray(data)
    places = [found.start() for found in re.finditer(
        rb"[\x02\x08\x10\x18\x20\x28\x54\xfe\xe0\x7f].[\0-\xff]{2}(?=[A-Z]{2})", data, re.DOTALL
    )]  # fmt: skip
    if not places:
        return any_bytes(random, data)
    for _ in range(random.randint(1, 3)):
        place, kind = random.choice(places), random.randrange(5)
        if kind == 0:
            out[place + 4 : place + 6] = random.choice((b"UN", b"SQ", b"OW", b"US", b"DS", b"IS",
                                                        b"LO", b"UI", b"??", b"FD"))  # fmt: skip
        elif kind == 1:
            struct.pack_into(
                "<H", out, min(place + 6, len(out) - 2), random.choice(NUMBERS) % 65536
            )
        elif kind == 2:
            after = place + 8 + random.randrange(16)
            out[after : after + 1] = random.choice((b"\0", b"9", b"-", b"\\", b"\xff", b"e", b"."))
        elif kind == 3:
            struct.pack_into("<H", out, place + 2, random.choice(NUMBERS) & 0xFFFF)
        else:
            other = random.choice(places)
            out[place + 4 : place + 10] = data[other + 4 : other + 10]
    return bytes(out)


def fields(*spans: tuple[int, int, str]) -> Mutator:
    """Return a mutator of a head's numbers: (first, last, struct code), as NIfTI has them."""

    def change(random: Random, data: bytes) -> bytes:
        if random.random() < 0.3:
            return any_bytes(random, data)
        out = bytearray(data)
        for _ in range(random.randint(1, 3)):
            first, last, code = random.choice(spans)
            size = struct.calcsize(code)
            place = first + size * random.randrange(max(1, (last - first) // size))
            if code in "fd":
                value: Any = random.choice((0.0, -1.0, 1e30, 1e-30, float("nan"), float("inf")))
            else:
                value = random.choice((*NUMBERS, -1, -2, random.randrange(2100)))
                value = (int(value) + 2 ** (8 * size - 1)) % 2 ** (8 * size) - 2 ** (8 * size - 1)
            if place + size <= len(out):
                struct.pack_into("<" + code, out, place, value)
        return bytes(out)

    return change


def _of_tree(
    load: Callable[[bytes], Any], dump: Callable[[Any], str], as_text: float, most: int
) -> Mutator:
    """Return a mutator of a text that is a tree: of up to so many of its nodes, or of the text."""

    def change(random: Random, data: bytes) -> bytes:
        try:
            held = load(data)
        except ValueError:
            return text(random, data)
        if random.random() < as_text:
            return text(random, data)
        for _ in range(random.randint(1, most)):
            held = _spoiled(random, held)
        return dump(held).encode()

    return change


def _tables(held: Any) -> str:
    tables = held if isinstance(held, dict) else {"value": held}
    return "\n".join(f"{_key(key)} = {_toml(value)}" for key, value in tables.items())


def _key(key: Any) -> str:
    return json.dumps(str(key)).replace("\x7f", "")


def _toml(value: Any) -> str:
    if isinstance(value, dict):
        return "{" + ", ".join(f"{_key(k)} = {_toml(v)}" for k, v in value.items()) + "}"
    if isinstance(value, list | tuple):
        return "[" + ", ".join(map(_toml, value)) + "]"
    if isinstance(value, float):
        return repr(value)
    if value is None:
        return "''"
    return json.dumps(value, default=str)


def _spoiled(random: Random, held: Any) -> Any:
    """Return a tree with one node changed, chosen on the way down."""
    if isinstance(held, dict) and held and random.random() < 0.9:
        key = random.choice(list(held))
        kind = random.random()
        if kind < 0.08:
            return {k: v for k, v in held.items() if k != key}
        if kind < 0.14:
            return {**held, random.choice(TEXTS): held[key]}
        return {**held, key: _spoiled(random, held[key])}
    if isinstance(held, list) and held and random.random() < 0.85:
        place = random.randrange(len(held))
        kind = random.random()
        if kind < 0.1:
            return held[:place] + held[place + 1 :]
        if kind < 0.2:
            return held[:place] + [held[place]] * random.choice((2, 3, 50)) + held[place:]
        return [*held[:place], _spoiled(random, held[place]), *held[place + 1 :]]
    if random.random() < 0.05:
        for _ in range(random.choice((3, 60, 400))):
            held = [held]
        return held
    if isinstance(held, int | float) and not isinstance(held, bool) and random.random() < 0.5:
        return random.choice((-held, held * 1e6, held + 1, held / 3, 0))
    return random.choice(VALUES)


tree = _of_tree(json.loads, json.dumps, 0.15, 3)
"""Change JSON: put something else in the place of a node; drop, double, nest or rename it."""
toml = _of_tree(lambda data: tomllib.loads(data.decode()), _tables, 0.2, 2)
"""Change TOML as ``tree`` changes JSON."""


def text(random: Random, data: bytes) -> bytes:
    """Change lines and words of a text: drop, double, swap, put something else in their place."""
    if random.random() < 0.25:
        return any_bytes(random, data)
    lines = data.split(b"\n")
    for _ in range(random.randint(1, 3)):
        place, kind = random.randrange(len(lines)), random.randrange(5)
        if kind == 0 and len(lines) > 1:
            del lines[place]
        elif kind == 1:
            lines.insert(place, random.choice(lines))
        elif kind == 2:
            other = random.randrange(len(lines))
            lines[place], lines[other] = lines[other], lines[place]
        else:
            words = re.split(rb"(\W+)", lines[place])
            word = str(random.choice((*TEXTS, *NUMBERS))).encode("utf-8", "surrogatepass")
            words[random.randrange(len(words))] = word
            lines[place] = b"".join(words)
    return b"\n".join(lines)


def markup(random: Random, data: bytes) -> bytes:
    """Change XML: elements dropped, doubled, emptied, renamed; texts and attributes changed."""
    if random.random() < 0.3:
        return text(random, data)
    spans = [found.span() for found in re.finditer(rb"<(\w+)[^<>]*>[^<]*</\1>", data)]
    if not spans:
        return text(random, data)
    start, end = random.choice(spans)
    element = data[start:end]
    kind = random.randrange(4)
    word = str(random.choice((*TEXTS, *NUMBERS))).encode("utf-8", "surrogatepass")
    if kind == 0:
        element = b""
    elif kind == 1:
        element *= random.choice((2, 3, 200))
    elif kind == 2:
        element = re.sub(rb">[^<]*<", lambda _: b">" + word + b"<", element)
    else:
        element = re.sub(rb"\w+(?=[ >])", lambda _: word, element)
    return data[:start] + element + data[end:]


def database(random: Random, data: bytes) -> bytes:
    """Change SQLite: a cell, a table's or column's name; a row dropped or doubled; or the bytes."""
    if random.random() < 0.3:
        return any_bytes(random, data)
    with tempfile.NamedTemporaryFile(suffix=".db") as file:
        file.write(data)
        file.flush()
        try:
            with contextlib.closing(sqlite3.connect(file.name)) as base:
                _spoil_table(random, base)
                base.commit()
        except sqlite3.Error:
            return any_bytes(random, data)
        with open(file.name, "rb") as changed:
            return changed.read()


def _spoil_table(random: Random, base: sqlite3.Connection) -> None:
    named = "SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%'"
    table = random.choice([row[0] for row in base.execute(named)])
    columns = [row[1] for row in base.execute(f'PRAGMA table_info("{table}")')]
    column, kind = random.choice(columns), random.randrange(6)
    cell = base.execute(f'SELECT "{column}" FROM "{table}" LIMIT 1').fetchone()
    old = cell[0] if cell else None
    if kind <= 2:
        value = any_bytes(random, old) if isinstance(old, bytes) else random.choice(
            [v for v in VALUES if isinstance(v, int | float | str) and _fits(v)] + [None]
        )  # fmt: skip
        base.execute(f'UPDATE "{table}" SET "{column}" = ?', (value,))
    elif kind == 3:
        base.execute(f'DELETE FROM "{table}"')
    elif kind == 4:
        base.execute(f'ALTER TABLE "{table}" RENAME COLUMN "{column}" TO "other"')
    else:
        base.execute(f'ALTER TABLE "{table}" RENAME TO "other"')


def _fits(value: Any) -> bool:
    """Tell whether SQLite can hold a number."""
    return not isinstance(value, int) or abs(value) < 2**63
