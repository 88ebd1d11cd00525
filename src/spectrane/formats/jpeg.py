"""JPEG pictures (ISO/IEC 10918-1): read as stored, YCbCr brought to RGB; written from data."""

from __future__ import annotations

import os
import struct
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.memory import DecodedSource
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.exif import orientation_of
from spectrane.formats.storing import check_picture
from spectrane.model.band import Band
from spectrane.model.errors import FormatError
from spectrane.model.grid import Grid
from spectrane.model.member import Member, find_member
from spectrane.model.source import Source
from spectrane.model.telling import warn_caller
from spectrane.model.whole_files import check_target, written_whole
from spectrane.model.window import whole

if TYPE_CHECKING:
    from spectrane.formats.table import Probe

_FRAMES = {0xC0: "baseline", 0xC1: "extended", 0xC2: "progressive", 0xC3: "lossless",
           0xF7: "JPEG-LS"}  # fmt: skip
_NAMES = {1: ("grey",), 3: ("red", "green", "blue"), 4: ("cyan", "magenta", "yellow", "black")}
_LEAST_PER_BLOCK = 1 / 8  # bytes that 8 x 8 samples take at the very least, with room to spare


@dataclass
class JpegHead:
    """What the markers before the image data say."""

    rows: int = 0
    columns: int = 0
    components: int = 0
    bits: int = 0
    frame: str = ""
    facts: dict[str, Any] = field(default_factory=dict)


class JpegReader:
    """JPEG of one, three or four components."""

    def matches(self, probe: Probe) -> bool:
        """Tell whether the file begins with a start-of-image marker and another marker."""
        return probe.head[:3] == b"\xff\xd8\xff"

    def members(self, file: ByteFile) -> list[Member]:
        """Return the one picture."""
        head = read_jpeg_head(file)
        dtype = "uint8" if head.bits == 8 else "uint16"
        return [Member(1, "", head.rows, head.columns, head.components, dtype)]

    def open(self, file: ByteFile, member: int | str | None = None) -> Source:
        """Open the picture."""
        find_member(self.members(file), member, file.name)
        return JpegSource(file)


def read_jpeg_head(file: ByteFile) -> JpegHead:
    """Read the markers up to the frame header. Raises FormatError on what is not JPEG."""
    head, place = JpegHead(), 2
    for _ in range(4096):
        marker, length = _marker(file, place)
        data = file.read(place + 4, min(length - 2, 4096))
        if marker == 0xF7 or (0xC0 <= marker <= 0xCF and marker not in (0xC4, 0xC8, 0xCC)):
            if len(data) < 6:
                break
            head.bits, head.rows, head.columns, head.components = struct.unpack(">BHHB", data[:6])
            head.frame = _FRAMES.get(marker, f"process {marker - 0xC0}")
            if not (head.rows and head.columns and head.components in _NAMES):
                break
            return head
        if marker == 0xE0 and data[:5] == b"JFIF\0" and len(data) >= 12:
            unit, x, y = struct.unpack(">BHH", data[7:12])
            head.facts["density"] = (x, y, {1: "per inch", 2: "per cm"}.get(unit, "aspect"))
        elif marker == 0xE1 and data[:6] == b"Exif\0\0":
            head.facts["orientation"] = orientation_of(data[6:])
        elif marker == 0xFE:
            head.facts["comment"] = data.decode("utf-8", "replace")
        elif marker == 0xDA:
            break
        place += 2 + length
    raise FormatError(
        f"{file.name}: no usable frame header ({head.rows} rows x {head.columns} columns x "
        f"{head.components} components); expected 1, 3 or 4 components"
    )


def _marker(file: ByteFile, place: int) -> tuple[int, int]:
    start, marker, length = struct.unpack(">BBH", file.read(place, 4))
    if start != 0xFF or length < 2:
        raise FormatError(f"{file.name}: byte {place}: expected a JPEG marker, found {start:#04x}")
    return marker, length


class JpegSource(DecodedSource):
    """One JPEG picture, decoded at the first read."""

    format = "JPEG"

    def __init__(self, file: ByteFile) -> None:
        head = read_jpeg_head(file)
        self.file, self.head, self.name = file, head, file.name
        if head.rows * head.columns / 64 * _LEAST_PER_BLOCK / 16 > file.size + 4096:
            raise FormatError(
                f"{file.name}: claims {head.rows} x {head.columns} pixels, which its {file.size} "
                "bytes cannot hold"
            )
        self.key = (file.key, "jpeg")
        self.dtype = np.dtype(np.uint8 if head.bits <= 8 else np.uint16)
        self.grid = Grid((head.rows, head.columns))
        self.block_shape = self.grid.shape
        names = _NAMES[head.components]
        self.bands = tuple(Band(n, role=n if len(names) == 3 else None) for n in names)
        self.orientation = head.facts.get("orientation", 1)
        self.metadata = {**head.facts, "bits": head.bits, "compression": f"JPEG {head.frame}"}

    def decode(self) -> tuple[NDArray[Any], NDArray[Any] | None]:
        """Decode the picture. Raises FormatError where its data are damaged."""
        from spectrane.formats.jpeg_data import check_complete, decode_jpeg

        data = self.file.read(0, self.file.size)
        try:
            if self.head.frame == "JPEG-LS":
                import imagecodecs

                check_complete(data)
                pixels = np.asarray(imagecodecs.jpegls_decode(data))
            else:
                pixels = decode_jpeg(data, self.head.components)
        except (RuntimeError, ValueError) as error:
            raise FormatError(f"{self.name}: JPEG data: {error}; the file is damaged") from error
        return self.planes(pixels), None

    def __reduce__(self) -> tuple[Any, ...]:
        return JpegSource, (self.file,)


def write_jpeg(
    source: Source,
    target: str | os.PathLike[str],
    *,
    quality: int = 92,
    overwrite: bool = False,
    progress: Progress = no_progress,
) -> None:
    """Write one or three bands of uint8 as JPEG. What is lost is warned of: JPEG changes numbers,
    has no no-data, and no field for a place.
    """
    import imagecodecs

    check_target(os.fspath(target), overwrite=overwrite)
    if not 1 <= quality <= 100:
        raise FormatError(f"quality {quality}: expected 1 to 100")
    check_picture(source, "JPEG", (np.uint8,))
    pixels = source.read(range(len(source.bands)), whole(source.shape))
    values, hidden = pixels.values, not pixels.valid.all()
    lost = ["the exact numbers"]
    lost += ["which pixels are no-data (they keep their number)"] if hidden else []
    lost += ["place and coordinate system"] if source.grid.placed else []
    warn_caller(f"JPEG does not keep {', '.join(lost)}")
    cube = np.ascontiguousarray(values.transpose(1, 2, 0))
    data = imagecodecs.jpeg8_encode(cube[..., 0] if len(values) == 1 else cube, level=quality)
    note = "\n".join(map(str, source.metadata.get("provenance", ()))).encode()[:65000]
    comment = b"\xff\xfe" + struct.pack(">H", len(note) + 2) + note if note else b""
    with written_whole(target, overwrite=overwrite) as file:
        file.write(data[:2] + comment + data[2:])
    progress(1, 1)
