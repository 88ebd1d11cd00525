"""DICOM files packed by hand, by the offsets and tables of PS3.5 and PS3.10."""

from __future__ import annotations

import struct
import zlib

import numpy as np

LONG = {b"OB", b"OW", b"OF", b"OD", b"SQ", b"UC", b"UN", b"UT"}
IMPLICIT, EXPLICIT = "1.2.840.10008.1.2", "1.2.840.10008.1.2.1"
DEFLATED, BIG = "1.2.840.10008.1.2.1.99", "1.2.840.10008.1.2.2"
UNDEFINED = 0xFFFFFFFF


def element(tag, vr, value, syntax=EXPLICIT, length=None):
    """Pack one element; ``value`` is bytes, text, or numbers of the representation."""
    order = ">" if syntax == BIG else "<"
    vr = vr.encode()
    if isinstance(value, str):
        value = value.encode("latin_1")
    if not isinstance(value, bytes):
        code = {b"US": "H", b"SS": "h", b"UL": "I", b"FL": "f", b"FD": "d", b"AT": "H"}[vr]
        value = struct.pack(f"{order}{len(np.atleast_1d(value))}{code}", *np.atleast_1d(value))
    if len(value) % 2:
        value += b"\0" if vr in (b"UI", b"OB", b"UN") else b" "
    size = len(value) if length is None else length
    head = struct.pack(order + "HH", tag >> 16, tag & 0xFFFF)
    if syntax == IMPLICIT:
        head += struct.pack("<I", size)
    elif vr in LONG:
        head += vr + b"\0\0" + struct.pack(order + "I", size)
    else:
        head += vr + struct.pack(order + "H", size)
    return head + value


def mark(tag, length, syntax=EXPLICIT):
    """Pack an item's or a delimiter's tag, which has no representation."""
    order = ">" if syntax == BIG else "<"
    return struct.pack(order + "HHI", tag >> 16, tag & 0xFFFF, length)


def sequence(tag, items, syntax=EXPLICIT, *, undefined=False):
    """Pack a sequence of items, each a list of (tag, representation, value)."""
    out = b""
    for one in items:
        body = elements(one, syntax)
        out += mark(0xFFFEE000, UNDEFINED if undefined else len(body), syntax) + body
        out += mark(0xFFFEE00D, 0, syntax) if undefined else b""
    out += mark(0xFFFEE0DD, 0, syntax) if undefined else b""
    return element(tag, "SQ", out, syntax, UNDEFINED if undefined else None)


def elements(given, syntax=EXPLICIT):
    """Pack (tag, representation, value) in order of tags; lists of items are sequences."""
    out = b""
    for tag, vr, value in sorted(given, key=lambda one: one[0]):
        if vr in ("SQ", "SQ?"):
            out += sequence(tag, value, syntax, undefined=vr == "SQ?")
        else:
            out += element(tag, vr, value, syntax)
    return out


def encapsulated(frames, *, table=True, split=1):
    """Pack frames as items after a basic offset table (PS3.5 A.4), each in ``split`` fragments."""
    parts, offsets, place = [], [], 0
    for frame in frames:
        offsets.append(place)
        frame = frame + b"\0" * (len(frame) % 2)
        size = -(-len(frame) // split) + 1 & ~1
        for start in range(0, len(frame), size):
            piece = frame[start : start + size]
            parts.append(mark(0xFFFEE000, len(piece)) + piece)
            place += 8 + len(piece)
    first = struct.pack(f"<{len(offsets)}I", *offsets) if table else b""
    return mark(0xFFFEE000, len(first)) + first + b"".join(parts) + mark(0xFFFEE0DD, 0)


def image(pixels, *, syntax=EXPLICIT, packed=None, photometric="MONOCHROME2", bits=None, high=None,
          signed=None, planar=0, frames=None, more=(), without=(), vr=None, shape=None,
          allocated=None):  # fmt: skip
    """Return the bytes of a file. ``pixels`` is (rows, columns[, samples]), with frames before.

    ``packed`` stands in the place of the plain samples; ``more`` elements win over those made here.
    """
    pixels = np.asarray(pixels)
    samples = 1 if photometric[:4] in ("MONO", "PALE") else 3
    rows, columns = shape or pixels.shape[(pixels.ndim - 2 - (samples > 1)) :][:2]
    allocated = allocated or 8 * pixels.dtype.itemsize
    bits = bits or allocated
    given = {
        0x00080016: ("UI", "1.2.840.10008.5.1.4.1.1.2"), 0x00080018: ("UI", "1.2.3.4"),
        0x00080060: ("CS", "CT"), 0x0020000E: ("UI", "1.2.3"), 0x00280002: ("US", samples),
        0x00280004: ("CS", photometric), 0x00280010: ("US", rows), 0x00280011: ("US", columns),
        0x00280100: ("US", allocated), 0x00280101: ("US", bits),
        0x00280102: ("US", bits - 1 if high is None else high),
        0x00280103: ("US", int(pixels.dtype.kind == "i" if signed is None else signed)),
    }  # fmt: skip
    if samples > 1:
        given[0x00280006] = ("US", planar)
    if frames:
        given[0x00280008] = ("IS", str(frames))
    given |= {tag: (kind, value) for tag, kind, value in more}
    listed = [(tag, *one) for tag, one in given.items() if tag not in without]
    order = ">" if syntax == BIG else "<"
    raw = pixels.astype(pixels.dtype.newbyteorder(order)).tobytes() if packed is None else packed
    vr = vr or ("OB" if allocated <= 8 and syntax != IMPLICIT else "OW")
    tag = {"OF": 0x7FE00008, "OD": 0x7FE00009}.get(vr, 0x7FE00010)
    length = UNDEFINED if packed is not None and syntax not in (
        IMPLICIT, EXPLICIT, DEFLATED, BIG) else None  # fmt: skip
    body = elements(listed, syntax) + element(tag, vr, raw, syntax, length)
    if syntax == DEFLATED:
        packer = zlib.compressobj(9, zlib.DEFLATED, -15)
        body = packer.compress(body) + packer.flush()
    meta = element(0x00020010, "UI", syntax)
    meta = element(0x00020000, "UL", len(meta)) + meta
    return bytes(128) + b"DICM" + meta + body


def plane(k, *, origin=(-10.0, -20.0, 30.0), step=(0.0, 0.0, 2.0), row=(1, 0, 0), column=(0, 1, 0),
          spacing=(0.5, 0.8), more=()):  # fmt: skip
    """Return the elements that place slice ``k`` of a series (LPS millimetres)."""
    place = [a + k * b for a, b in zip(origin, step, strict=True)]

    def joined(numbers):
        return "\\".join(f"{n:.9g}" for n in numbers)

    return [
        (0x00080018, "UI", f"1.2.3.4.{k}"), (0x00200013, "IS", str(k)),
        (0x00200032, "DS", joined(place)), (0x00200037, "DS", joined([*row, *column])),
        (0x00280030, "DS", joined(spacing)), *more,
    ]  # fmt: skip
