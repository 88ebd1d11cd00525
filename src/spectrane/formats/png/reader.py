"""Opening PNG pictures: numbers exactly as stored, palette indices as classes."""

from __future__ import annotations

import struct
import zlib
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.inflating import GREATEST_RATIO, inflated
from spectrane.engine.memory import DecodedSource
from spectrane.formats.png.chunks import (
    SIDECAR_KEYWORD,
    PngHead,
    checked_chunk,
    chunk_places,
    read_png_head,
)
from spectrane.formats.png.encoding import SIGNATURE, chunk
from spectrane.model.band import Band
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.marks import picture_bounds
from spectrane.model.member import Member, find_member
from spectrane.model.regular_files import ReadingAs
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.table import Probe


class PngReader:
    """PNG of every bit depth and colour type."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether the first bytes are PNG's signature."""
        return probe.head.startswith(SIGNATURE)

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one picture."""
        head = read_png_head(file)
        alpha = head.kind in (4, 6)
        dtype = "uint16" if head.bits == 16 else "uint8"
        return [Member(1, "", head.rows, head.columns, head.channels - alpha, dtype)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open the picture; a sidecar kept in its text is laid over it."""
        find_member(self.members(file), member, file.name)
        source: Source = PngSource(file)
        kept = source.metadata.get(SIDECAR_KEYWORD)
        if isinstance(kept, str):
            from spectrane.formats.sidecar_schema import apply_sidecar, parse_sidecar

            return apply_sidecar(
                source, parse_sidecar(kept, f"{file.name}, text {SIDECAR_KEYWORD!r}")
            )
        return _in_its_place(source)


def _in_its_place(source: Source) -> Source:
    """Place a display picture of ours where its description says that it lies."""
    said = source.metadata.get("Description")
    bounds = picture_bounds(said) if isinstance(said, str) else None
    if bounds is None:
        return source
    from spectrane.formats.sidecar_schema import Sidecar, apply_sidecar

    table: dict[str, Any] = {"bounds": bounds[0]} | ({"crs": bounds[1]} if bounds[1] else {})
    return apply_sidecar(source, Sidecar.model_validate({"grid": table}))


class PngSource(DecodedSource):
    """One PNG picture, decoded at the first read."""

    format = "PNG"

    def __init__(self, file: ByteFile) -> None:
        head = read_png_head(file)
        self.file, self.head, self.name = file, head, file.name
        self.key = (file.key, "png")
        self.dtype = np.dtype(np.uint16 if head.bits == 16 else np.uint8)
        self.grid = Grid((head.rows, head.columns))
        self.block_shape = self.grid.shape
        self.alpha = "straight" if head.kind in (4, 6) else None
        raw = head.rows * ((head.columns * head.channels * head.bits + 7) // 8)
        if raw > GREATEST_RATIO * file.size + (1 << 20):
            raise FormatError(
                f"{file.name}: claims {head.rows} x {head.columns} pixels, which its {file.size} "
                "bytes cannot hold"
            )
        self.bands = _bands(head)
        # One colour stands for "transparent": all its samples together.
        one_colour = head.kind in (0, 2) and self.bands[0].nodata is not None
        self.nodata_when = "all" if one_colour else "any"
        self.orientation = head.facts.get("orientation", 1)
        classes = _classes(head)
        self.look = Look(classes=classes) if classes else None
        facts = {"bits": head.bits, "interlaced": head.interlaced, "compression": "DEFLATE"}
        self.metadata = {**head.facts, **head.text, **facts}

    def decode(self) -> tuple[NDArray[Any], NDArray[Any] | None]:
        """Decode the picture. Raises FormatError where its data are damaged."""
        pixels = _decoded(self.file, self.head)
        cube = pixels.reshape(self.head.rows, self.head.columns, self.head.channels)
        planes = np.ascontiguousarray(cube.transpose(2, 0, 1))
        return (planes[:-1], planes[-1]) if self.alpha else (planes, None)

    def __reduce__(self) -> tuple[Any, ...]:
        return PngSource, (self.file,)


def _bands(head: PngHead) -> tuple[Band, ...]:
    names = ("red", "green", "blue") if head.kind in (2, 6) else ("grey",)
    hidden: list[Any] = [None] * len(names)
    if head.kind in (0, 2) and len(head.transparency) >= 2 * len(names):
        hidden = list(struct.unpack(f">{len(names)}H", head.transparency[: 2 * len(names)]))
    if head.kind == 3:
        names = ("index",)
        known = head.transparency[: len(head.palette) // 3]
        clear = tuple(index for index, alpha in enumerate(known) if alpha == 0)
        hidden = [clear[0] if len(clear) == 1 else clear or None]
    colour = len(names) == 3
    return tuple(
        Band(name, role=name if colour else None, nodata=value)
        for name, value in zip(names, hidden, strict=True)
    )


def _classes(head: PngHead) -> dict[float, tuple[str, str]]:
    if head.kind != 3:
        return {}
    alphas = head.transparency.ljust(256, b"\xff")
    colours = [head.palette[3 * k : 3 * k + 3] for k in range(len(head.palette) // 3)]
    return {float(k): (f"#{rgb.hex()}{alphas[k]:02x}" if alphas[k] < 255 else f"#{rgb.hex()}", "")
            for k, rgb in enumerate(colours[:256])}  # fmt: skip


def _decoded(file: ByteFile, head: PngHead) -> NDArray[Any]:
    data = b"".join(checked_chunk(file, k, o, n) for k, o, n in chunk_places(file) if k == b"IDAT")
    if not head.interlaced:
        size = head.rows * (1 + _row_bytes(head, head.columns))
        return _plane(file, head, _trimmed(data, size), head.rows, head.columns)
    sizes = [(len(range(top, head.rows, down)), len(range(left, head.columns, across)))
             for top, left, down, across in _PASSES]  # fmt: skip
    lengths = [rows * (1 + _row_bytes(head, columns)) if columns else 0 for rows, columns in sizes]
    with ReadingAs(file.name, FormatError, problem="PNG image data are damaged"):
        raw = inflated(data, sum(lengths))
    if len(raw) < sum(lengths):
        raise FormatError(f"{file.name}: PNG image data: not enough of them; the file is damaged")
    out = np.empty((head.rows, head.columns, head.channels), np.uint16 if head.bits > 8 else "u1")
    place = 0
    for (top, left, down, across), (rows, columns), length in zip(
        _PASSES, sizes, lengths, strict=True
    ):
        if length:
            part = zlib.compress(raw[place : place + length], 1)
            pixels = _plane(file, head, part, rows, columns)
            out[top::down, left::across] = pixels.reshape(rows, columns, head.channels)
        place += length
    return out


def _row_bytes(head: PngHead, columns: int) -> int:
    return (columns * head.channels * head.bits + 7) // 8


def _plane(file: ByteFile, head: PngHead, data: bytes, rows: int, columns: int) -> NDArray[Any]:
    """Decode packed rows that are not interlaced: a picture, or one pass of one."""
    import imagecodecs

    # A row of small samples is filtered as a row of whole bytes is: decode it as such.
    width = columns if head.bits >= 8 else _row_bytes(head, columns)
    # Without palette, transparency and text samples come as stored.
    kind = 0 if head.kind == 3 else head.kind
    header = struct.pack(">LLBBBBB", width, rows, max(8, head.bits), kind, 0, 0, 0)
    whole = [SIGNATURE, chunk(b"IHDR", header), chunk(b"IDAT", data), chunk(b"IEND", b"")]
    pixels = np.asarray(_guarded(file, imagecodecs.png_decode, b"".join(whole)))
    return pixels if head.bits >= 8 else _unpacked(pixels.reshape(rows, width), head, columns)


def _guarded(file: ByteFile, decode: Any, data: bytes) -> Any:
    try:
        return decode(data)
    except (RuntimeError, ValueError, OSError, SyntaxError) as error:
        raise FormatError(f"{file.name}: PNG image data: {error}; the file is damaged") from error


_PASSES = ((0, 0, 8, 8), (0, 4, 8, 8), (4, 0, 8, 4), (0, 2, 4, 4), (2, 0, 4, 2), (0, 1, 2, 2),
           (1, 0, 2, 1))  # fmt: skip
"""First row and column, and steps, of each pass of an interlaced picture (PNG, 8.2)."""
_TRIMMED = 128 << 10


def _trimmed(data: bytes, size: int) -> bytes:
    """Return packed data without what follows the picture, which the library would write about.

    Only of small pictures, where unpacking twice costs nothing. Damage is for the library to tell.
    """
    if len(data) > _TRIMMED:
        return data
    inflater = zlib.decompressobj()
    try:
        raw = inflater.decompress(data, size + 1)
    except zlib.error:
        return data
    if len(raw) > size:
        return zlib.compress(raw[:size], 1)
    return data[: len(data) - len(inflater.unused_data)]


def _unpacked(packed: NDArray[Any], head: PngHead, columns: int) -> NDArray[np.uint8]:
    per_byte = 8 // head.bits
    shifts = np.arange(per_byte - 1, -1, -1, dtype=np.uint8) * np.uint8(head.bits)
    spread = (packed[:, :, np.newaxis] >> shifts) & np.uint8((1 << head.bits) - 1)
    return np.asarray(spread.reshape(len(packed), -1)[:, :columns], np.uint8)
