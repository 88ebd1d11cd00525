"""JPEG 2000 pictures (ISO/IEC 15444-1): JP2 files and bare codestreams."""

from __future__ import annotations

import struct
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.memory import DecodedSource
from spectrane.kernels.records import record
from spectrane.model.band import Band, numbered
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.member import Member, find_member
from spectrane.model.source import Source

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

_CODESTREAM = b"\xff\x4f\xff\x51"
_BOXES = b"\0\0\0\x0cjP  \r\n\x87\n"
_MOST_RATIO = 20000


@record(frozen=True)
class Jp2Head:
    """The SIZ marker of a codestream, and what the boxes around it say of colour."""

    rows: int
    columns: int
    components: int
    bits: int
    signed: bool
    colour: str

    @property
    def dtype(self) -> np.dtype[Any]:
        """The type of the samples."""
        size = 1 if self.bits <= 8 else 2 if self.bits <= 16 else 4
        return np.dtype(f"{'i' if self.signed else 'u'}{size}")


class Jpeg2000Reader:
    """JP2 and codestreams of up to 32 bits."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether the file begins as a JP2 or a codestream."""
        return probe.head.startswith((_BOXES, _CODESTREAM))

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one picture."""
        head = read_jp2_head(file)
        return [Member(1, "", head.rows, head.columns, head.components, head.dtype.name)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open the picture."""
        find_member(self.members(file), member, file.name)
        return Jpeg2000Source(file)


def read_jp2_head(file: ByteFile) -> Jp2Head:
    """Read boxes and the SIZ marker. Raises FormatError on what cannot be read."""
    start, colour = 0, ""
    if file.head()[:4] != _CODESTREAM:
        start, colour = _codestream(file)
    siz = file.read(start, min(60000, file.size - start))
    if siz[:4] != _CODESTREAM or len(siz) < 45:
        raise FormatError(f"{file.name}: no codestream at byte {start}")
    x1, y1, x0, y0 = struct.unpack(">4L", siz[8:24])
    (count,) = struct.unpack(">H", siz[40:42])
    parts = [siz[42 + 3 * k : 45 + 3 * k] for k in range(count)]
    if not (x0 < x1 and y0 < y1 and 1 <= count <= 16384 and len(parts[-1]) == 3):
        raise FormatError(f"{file.name}: SIZ marker: {x1 - x0} x {y1 - y0} x {count} is not usable")
    depths = {part[0] for part in parts}
    steps = {part[1:] for part in parts}
    if len(depths) > 1 or steps != {b"\1\1"}:
        raise FormatError(f"{file.name}: components of different depth or size are not supported")
    depth = depths.pop()
    head = Jp2Head(y1 - y0, x1 - x0, count, (depth & 0x7F) + 1, bool(depth & 0x80), colour)
    if head.bits > 32 or head.rows * head.columns * count > _MOST_RATIO * file.size + (1 << 20):
        raise FormatError(
            f"{file.name}: claims {head.rows} x {head.columns} x {count} samples of {head.bits} "
            f"bits, which its {file.size} bytes cannot hold"
        )
    return head


def _codestream(file: ByteFile) -> tuple[int, str]:
    """Return where the codestream begins, and the colour space of the header boxes."""
    place, colour = 0, ""
    for _ in range(1000):
        length, kind = struct.unpack(">L4s", file.read(place, 8))
        head = 8
        if length == 1:
            (length,) = struct.unpack(">Q", file.read(place + 8, 8))
            head = 16
        if kind == b"jp2c":
            return place + head, colour
        if kind == b"jp2h":
            data = file.read(place + head, min(length - head, 65536))
            at = data.find(b"colr\1")
            if at >= 0 and len(data) >= at + 11:
                code = struct.unpack(">L", data[at + 7 : at + 11])[0]
                colour = {16: "sRGB", 17: "grey", 18: "sYCC"}.get(code, str(code))
        if length < head:
            break
        place += length
    raise FormatError(f"{file.name}: no codestream among its boxes; expected a jp2c box")


class Jpeg2000Source(DecodedSource):
    """One JPEG 2000 picture, decoded at the first read."""

    format = "JPEG 2000"

    def __init__(self, file: ByteFile) -> None:
        head = read_jp2_head(file)
        self.file, self.head, self.name = file, head, file.name
        self.key = (file.key, "jpeg2000")
        self.dtype = head.dtype
        self.grid = Grid((head.rows, head.columns))
        self.block_shape = self.grid.shape
        self.bands = numbered(head.components)
        if head.components == 3 and head.colour in ("sRGB", "sYCC"):
            self.bands = tuple(Band(n, role=n) for n in ("red", "green", "blue"))
        self.metadata = {"bits": head.bits, "colour space": head.colour or "not told",
                         "compression": "JPEG 2000"}  # fmt: skip

    def decode(self) -> tuple[NDArray[Any], NDArray[Any] | None]:
        """Decode the picture. Raises FormatError where its data are damaged."""
        import imagecodecs

        try:
            pixels = imagecodecs.jpeg2k_decode(self.file.read(0, self.file.size), planar=False)
        except (RuntimeError, ValueError) as error:
            raise FormatError(f"{self.name}: JPEG 2000 data: {error}") from error
        return self.planes(np.asarray(pixels)), None

    def __reduce__(self) -> tuple[Any, ...]:
        return Jpeg2000Source, (self.file,)
