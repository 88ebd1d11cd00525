"""A plain TIFF maker for tests: it shares no code with the library."""

from __future__ import annotations

import struct
import zlib

import imagecodecs
import numpy as np

LZW, DEFLATE, OLD_DEFLATE, PACKBITS, ZSTD = 5, 8, 32946, 32773, 50000
_CODES = {"B": 1, "s": 2, "H": 3, "L": 4, "d": 12, "Q": 16, "b": 6, "h": 8}
_ENCODE = {
    1: bytes,
    LZW: imagecodecs.lzw_encode,
    DEFLATE: zlib.compress,
    OLD_DEFLATE: zlib.compress,
    PACKBITS: imagecodecs.packbits_encode,
    ZSTD: imagecodecs.zstd_encode,
}


def predicted(block, predictor, order):
    """Return a block's bytes (rows, columns, samples) after a predictor, in a byte order."""
    if predictor == 2:
        unsigned = block.view(f"u{block.dtype.itemsize}")
        out = unsigned.copy()
        for column in range(block.shape[1] - 1, 0, -1):
            out[:, column] = unsigned[:, column] - unsigned[:, column - 1]
        return out.astype(out.dtype.newbyteorder(order)).tobytes()
    if predictor == 3:
        rows, _, samples = block.shape
        size = block.dtype.itemsize
        raw = block.reshape(rows, -1).astype(f">f{size}").view(np.uint8)
        planes = raw.reshape(rows, -1, size).transpose(0, 2, 1).reshape(rows, -1)
        out = planes.copy()
        out[:, samples:] = planes[:, samples:] - planes[:, :-samples]
        return out.tobytes()
    return block.astype(block.dtype.newbyteorder(order)).tobytes()


def blocks_of(array, tile, strip_rows, separate):
    """Yield blocks (rows, columns, samples): tiles padded with 0, the last strip short."""
    bands, rows, columns = array.shape
    cube = np.ascontiguousarray(array.transpose(1, 2, 0))
    for plane in [cube[:, :, k : k + 1] for k in range(bands)] if separate else [cube]:
        if tile is None:
            for top in range(0, rows, strip_rows):
                yield np.ascontiguousarray(plane[top : top + strip_rows])
            continue
        high, wide = tile
        for top in range(0, rows, high):
            for left in range(0, columns, wide):
                part = plane[top : top + high, left : left + wide]
                block = np.zeros((high, wide, plane.shape[2]), array.dtype)
                block[: part.shape[0], : part.shape[1]] = part
                yield block


def image(
    array, *, tile=None, strip_rows=None, separate=False, compression=1, predictor=1, order="<",
    missing=(), extra=(), kind=0, photometric=1, counts=True, bits=None,
):  # fmt: skip
    """Return (fields, blocks) of one directory; ``extra`` adds or replaces (tag, code, values)."""
    array = np.atleast_3d(array) if array.ndim == 3 else array[np.newaxis]
    samples, rows, columns = array.shape
    strip_rows = strip_rows or rows
    made = list(blocks_of(array, tile, strip_rows, separate))
    if bits:
        data = [np.packbits(block[:, :, 0] > 0, axis=1).tobytes() for block in made]
    else:
        data = [predicted(block, predictor, order) for block in made]
    packed = [b"" if k in missing else bytes(_ENCODE[compression](d)) for k, d in enumerate(data)]
    kind_of = {"u": 1, "i": 2, "f": 3}[array.dtype.kind]
    fields = {
        254: ("L", [kind]), 256: ("L", [columns]), 257: ("L", [rows]),
        258: ("H", [bits or 8 * array.dtype.itemsize] * samples), 259: ("H", [compression]),
        262: ("H", [photometric]), 277: ("H", [samples]), 284: ("H", [2 if separate else 1]),
        317: ("H", [predictor]), 339: ("H", [kind_of] * samples),
    }  # fmt: skip
    if tile is None:
        fields |= {278: ("L", [strip_rows]), 273: ("offsets", None), 279: ("counts", None)}
    else:
        fields |= {322: ("L", [tile[1]]), 323: ("L", [tile[0]]), 324: ("offsets", None),
                   325: ("counts", None)}  # fmt: skip
    if not counts:
        fields.pop(279 if tile is None else 325)
    fields |= {tag: (code, values) for tag, code, values in extra}
    return fields, packed


def tiff(*images, order="<", big=False, subs=()):
    """Return the bytes of a TIFF of some images in a chain; ``subs`` hang below the first."""
    mark = b"II" if order == "<" else b"MM"
    link = "Q" if big else "L"
    out = bytearray(mark + struct.pack(order + ("HHHQ" if big else "HL"),
                                       *((43, 8, 0, 0) if big else (42, 0))))  # fmt: skip
    places = []
    for fields, packed in (*images, *subs):
        where = []
        for data in packed:
            where.append(len(out) if data else 0)
            out += data
            out += b"\0" * (len(out) % 2)
        places.append((fields, where, [len(data) for data in packed]))
    slot = 8 if big else 4
    starts = {}
    for number in [*range(len(images), len(places)), *range(len(images))]:
        fields, where, lengths = places[number]
        if number == 0 and subs:
            fields[330] = (link, [starts[len(images) + k] for k in range(len(subs))])
        starts[number] = _directory(out, fields, where, lengths, order, big)
    for number in range(len(images) - 1):
        end = starts[number] + (8 if big else 2) + (20 if big else 12) * len(places[number][0])
        out[end : end + slot] = struct.pack(order + link, starts[number + 1])
    out[(8 if big else 4) : (16 if big else 8)] = struct.pack(order + link, starts[0])
    return bytes(out)


def _directory(out, fields, where, lengths, order, big):
    link, slot = ("Q", 8) if big else ("L", 4)
    entries = []
    for tag, (code, values) in sorted(fields.items()):
        if code == "offsets":
            code, values = link, where
        elif code == "counts":
            code, values = "L", lengths
        raw = values if code == "s" else struct.pack(f"{order}{len(values)}{code}", *values)
        if len(raw) > slot:
            place = len(out)
            out += raw + b"\0" * (len(raw) % 2)
            raw = struct.pack(order + link, place)
        entries.append((tag, _CODES[code], len(values), raw.ljust(slot, b"\0")))
    start = len(out)
    out += struct.pack(order + ("Q" if big else "H"), len(entries))
    for tag, kind, count, raw in entries:
        out += struct.pack(order + "HH" + link, tag, kind, count) + raw
    out += b"\0" * slot
    return start
