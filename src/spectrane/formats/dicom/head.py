"""Opening one DICOM file (PS3.10 section 7): preamble, meta information, elements up to pixels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from spectrane.engine.byte_file import ByteFile
from spectrane.engine.inflating import InflatedFile
from spectrane.formats.dicom.elements import Coding, Dataset, Element, Parser
from spectrane.model.errors import FormatError

DEFLATED = "1.2.840.10008.1.2.1.99"
BIG_ENDIAN = "1.2.840.10008.1.2.2"
IMPLICIT = "1.2.840.10008.1.2"
ENCAPSULATED_PLAIN = "1.2.840.10008.1.2.1.98"
# Transfer syntax -> how pixels are packed, in words (PS3.5 annex A).
SYNTAXES: dict[str, str] = {
    IMPLICIT: "none", "1.2.840.10008.1.2.1": "none", DEFLATED: "none", BIG_ENDIAN: "none",
    ENCAPSULATED_PLAIN: "none",
    "1.2.840.10008.1.2.5": "RLE",
    "1.2.840.10008.1.2.4.50": "JPEG baseline", "1.2.840.10008.1.2.4.51": "JPEG extended",
    "1.2.840.10008.1.2.4.57": "JPEG lossless", "1.2.840.10008.1.2.4.70": "JPEG lossless",
    "1.2.840.10008.1.2.4.80": "JPEG-LS lossless", "1.2.840.10008.1.2.4.81": "JPEG-LS near-lossless",
    "1.2.840.10008.1.2.4.90": "JPEG 2000 lossless", "1.2.840.10008.1.2.4.91": "JPEG 2000",
    "1.2.840.10008.1.2.4.201": "High-Throughput JPEG 2000 lossless",
    "1.2.840.10008.1.2.4.202": "High-Throughput JPEG 2000 lossless",
    "1.2.840.10008.1.2.4.203": "High-Throughput JPEG 2000",
}  # fmt: skip
_DIRECTORY = "1.2.840.10008.1.3.10"
"""The class of media storage directories (PS3.4 annex I)."""
_FLOATS = {0x7FE00008: 32, 0x7FE00009: 64}
_MOST_PLANES = 1 << 20
GREY = ("MONOCHROME1", "MONOCHROME2")
_SAMPLES = {"MONOCHROME1": 1, "MONOCHROME2": 1, "PALETTE COLOR": 1, "RGB": 3, "YBR_FULL": 3,
            "YBR_FULL_422": 3, "YBR_PARTIAL_422": 3, "YBR_PARTIAL_420": 3, "YBR_ICT": 3,
            "YBR_RCT": 3}  # fmt: skip


@dataclass(frozen=True, slots=True)
class DicomLayout:
    """How the samples of a frame lie (PS3.3 C.7.6.3)."""

    rows: int
    columns: int
    samples: int
    photometric: str
    planar: bool
    allocated: int
    stored: int
    high: int
    signed: bool
    floating: bool
    frames: int

    @property
    def dtype(self) -> np.dtype[np.generic]:
        """The smallest type that holds a sample as it is stored."""
        bits = next(n for n in (8, 16, 32, 64) if n >= self.allocated)
        return np.dtype(f"{'f' if self.floating else 'i' if self.signed else 'u'}{bits // 8}")

    @property
    def halved(self) -> bool:
        """Whether two pixels share their colour differences, where nothing else packs them."""
        return self.photometric in ("YBR_FULL_422", "YBR_PARTIAL_422")

    @property
    def frame_bits(self) -> int:
        """Bits of one frame that is not packed."""
        samples = 2 if self.halved else self.samples
        return self.rows * self.columns * samples * self.allocated


@dataclass(frozen=True, slots=True)
class DicomHead:
    """One file's elements, and where its pixels lie."""

    file: ByteFile
    data: Dataset
    syntax: str
    layout: DicomLayout
    pixels: Element
    bytes: int
    """Of the whole file, as it lies there."""

    @property
    def name(self) -> str:
        """The file's path."""
        return self.file.name

    @property
    def packing(self) -> str:
        """How pixels are packed, in words."""
        return SYNTAXES[self.syntax]

    @property
    def encapsulated(self) -> bool:
        """Whether frames lie in items (PS3.5 annex A.4)."""
        return self.packing != "none" or self.syntax == ENCAPSULATED_PLAIN


def begins(head: bytes) -> bool:
    """Tell whether a file's first bytes are a preamble and the prefix ``DICM``."""
    return head[128:132] == b"DICM"


Elements = tuple[Dataset, str, ByteFile]
"""Elements, transfer syntax, and the file they lie in (another than it was read from: inflated)."""


def has_pixels(data: Dataset) -> bool:
    """Tell whether a data set holds pixels."""
    return any(tag >> 16 == 0x7FE0 for tag in data.elements)


def read_dicom_head(file: ByteFile, found: Elements | None = None) -> DicomHead:
    """Read a file up to its pixels. Raises FormatError: what is wrong, and at which element."""
    found = found or read_elements(file)
    if found is None:
        raise FormatError(f"{file.name}: a directory of media (DICOMDIR), which holds no image; "
                          "open a file, or the folder of a series")  # fmt: skip
    data, syntax, inner = found
    pixels = next((e for tag, e in data.elements.items() if tag >> 16 == 0x7FE0 and tag & 0x1F in
                   (0x10, 8, 9)), None)  # fmt: skip
    if pixels is None:
        kind = data.text("Modality") or data.text("SOPClassUID") or "object"
        raise FormatError(f"{file.name}: a {kind} without pixel data (7FE0,0010): nothing to show")
    head = DicomHead(inner, data, syntax, _layout(data, pixels), pixels, file.size)
    _check_bytes(head)
    return head


Meta = tuple[str, bool, Parser]
"""Transfer syntax, whether this is a directory of media, and what reads on where the data begin."""


def read_meta(file: ByteFile) -> Meta | None:
    """Return a file's transfer syntax, whether it is a directory of media, and what reads on; None
    of a file of another format.
    """
    parser = Parser(file, Coding(), 0)
    if file.size < 132 or not begins(parser.take(132)):
        return None
    meta = parser.dataset(meta=True)
    directory = meta.text("MediaStorageSOPClassUID") == _DIRECTORY
    return meta.text("TransferSyntaxUID").rstrip("\0 "), directory, parser


def read_elements(file: ByteFile, meta: Meta | None = None) -> Elements | None:
    """Return a file's elements up to its pixels; None for a directory of media.

    ``meta`` is what ``read_meta`` told, where it was asked already.
    """
    meta = meta or read_meta(file)
    if meta is None:
        raise FormatError(f"{file.name}: expected DICM at byte 128")
    syntax, directory, parser = meta
    if directory:
        return None
    if syntax not in SYNTAXES:
        raise FormatError(
            f"{file.name}: TransferSyntaxUID (0002,0010) is {syntax or 'missing'}: not supported; "
            f"known are uncompressed, {', '.join(sorted({*SYNTAXES.values()} - {'none'}))}"
        )
    parser.coding = Coding(">" if syntax == BIG_ENDIAN else "<", syntax != IMPLICIT)
    if syntax == DEFLATED:
        file = InflatedFile(file, start=parser.place, window_bits=-15)
        parser = Parser(file, parser.coding, 0)
    return parser.dataset(), syntax, file


def _layout(data: Dataset, pixels: Element) -> DicomLayout:
    whole: dict[str, int] = {}
    for keyword in ("Rows", "Columns"):
        whole[keyword] = _bounded(data, keyword, None, 1, 65535)
    floating = pixels.tag in _FLOATS
    allocated = _bounded(data, "BitsAllocated", _FLOATS.get(pixels.tag), 1, 64 if floating else 32)
    if floating:
        allocated = _FLOATS[pixels.tag]
    if allocated != 1 and allocated % 8:
        raise FormatError(f"{data.name}: BitsAllocated is {allocated}; expected 1 or a multiple of "
                          "8 (PS3.5 8.1.1)")  # fmt: skip
    stored = _bounded(data, "BitsStored", allocated, 1, allocated)
    high = _bounded(data, "HighBit", stored - 1, stored - 1, allocated - 1)
    samples = _bounded(data, "SamplesPerPixel", 1, 1, 3)
    photometric = data.text("PhotometricInterpretation") or "MONOCHROME2"
    if _SAMPLES.get(photometric) != samples:
        raise FormatError(
            f"{data.name}: PhotometricInterpretation (0028,0004) {photometric!r} with "
            f"{samples} samples: expected one of {', '.join(_SAMPLES)} with its 1 or 3"
        )
    if photometric.startswith("YBR") and allocated != 8:
        raise FormatError(f"{data.name}: {photometric} of {allocated} bits; expected 8")
    if photometric.endswith("_422") and whole["Columns"] % 2:
        raise FormatError(f"{data.name}: {photometric} with Columns {whole['Columns']}, an odd "
                          "number")  # fmt: skip
    if data.number("TotalPixelMatrixColumns", 0) > whole["Columns"]:
        raise FormatError(f"{data.name}: frames are tiles of a larger image (0048,0006), which "
                          "are not supported")  # fmt: skip
    return DicomLayout(
        whole["Rows"], whole["Columns"], samples, photometric,
        _bounded(data, "PlanarConfiguration", 0, 0, 1) == 1 and samples > 1, allocated, stored,
        high, _bounded(data, "PixelRepresentation", 0, 0, 1) == 1, floating,
        _bounded(data, "NumberOfFrames", 1, 1, _MOST_PLANES),
    )  # fmt: skip


def _bounded(data: Dataset, keyword: str, otherwise: int | None, least: int, most: int) -> int:
    value = data.number(keyword, otherwise)
    if not isinstance(value, int) or not least <= value <= most:
        said = "missing" if value is None else repr(value)
        raise FormatError(f"{data.name}: {keyword} is {said}; expected {least} to {most}")
    return value


def _check_bytes(head: DicomHead) -> None:
    """Raise FormatError where plain pixels are fewer than claimed, before memory is taken."""
    layout, pixels = head.layout, head.pixels
    if head.encapsulated or head.file.keeps_damaged:
        return
    wanted = -(-layout.frame_bits * layout.frames // 8)
    there = min(pixels.length, head.file.size - pixels.offset)
    if there < wanted:
        raise FormatError(
            f"{head.name}: {layout.frames} frames of {layout.columns} x {layout.rows} x "
            f"{layout.samples} samples of {layout.allocated} bits need {wanted} bytes; pixel data "
            f"have {there}; the file may be cut short"
        )
