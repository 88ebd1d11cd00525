"""Numbers of the TIFF standards: tags, field types, compressions (TIFF 6.0 and its supplements)."""

from __future__ import annotations

from enum import IntEnum


class Tag(IntEnum):
    """Tags that Spectrane understands."""

    NewSubfileType = 254
    SubfileType = 255
    ImageWidth = 256
    ImageLength = 257
    BitsPerSample = 258
    Compression = 259
    PhotometricInterpretation = 262
    FillOrder = 266
    DocumentName = 269
    PageName = 285
    ImageDescription = 270
    Make = 271
    Model = 272
    StripOffsets = 273
    Orientation = 274
    SamplesPerPixel = 277
    RowsPerStrip = 278
    StripByteCounts = 279
    MinSampleValue = 280
    MaxSampleValue = 281
    XResolution = 282
    YResolution = 283
    PlanarConfiguration = 284
    ResolutionUnit = 296
    Software = 305
    DateTime = 306
    Artist = 315
    HostComputer = 316
    Predictor = 317
    ColorMap = 320
    TileWidth = 322
    TileLength = 323
    TileOffsets = 324
    TileByteCounts = 325
    T4Options = 292
    T6Options = 293
    JPEGTables = 347
    SubIFDs = 330
    ExtraSamples = 338
    SampleFormat = 339
    SMinSampleValue = 340
    SMaxSampleValue = 341
    YCbCrSubSampling = 530
    XMP = 700
    Copyright = 33432
    ModelPixelScale = 33550
    ModelTiepoint = 33922
    ModelTransformation = 34264
    GeoKeyDirectory = 34735
    GeoDoubleParams = 34736
    GeoAsciiParams = 34737
    RPCCoefficients = 50844
    NoData = 42113


# Field type -> (NumPy type code, bytes). Rationals are pairs; text and undefined are bytes.
FIELD_TYPES: dict[int, tuple[str, int]] = {
    1: ("u1", 1),
    2: ("S", 1),
    3: ("u2", 2),
    4: ("u4", 4),
    5: ("u4", 8),
    6: ("i1", 1),
    7: ("S", 1),
    8: ("i2", 2),
    9: ("i4", 4),
    10: ("i4", 8),
    11: ("f4", 4),
    12: ("f8", 8),
    13: ("u4", 4),
    16: ("u8", 8),
    17: ("i8", 8),
    18: ("u8", 8),
}
ASCII, SHORT, LONG, DOUBLE, LONG8, UNDEFINED, BYTE = 2, 3, 4, 12, 16, 7, 1
RATIONALS = (5, 10)
TEXTS = (2, 7)

REDUCED, PAGE, MASK = 1, 2, 4
"""Bits of NewSubfileType."""

NONE, LZW, ZSTD, DEFLATE, OLD_DEFLATE, PACKBITS = 1, 5, 50000, 8, 32946, 32773
RUN_LENGTH, FAX3, FAX4, OLD_JPEG, JPEG = 2, 3, 4, 6, 7
JPEG2000 = (33003, 33005, 34712)
FAX = (RUN_LENGTH, FAX3, FAX4)
PICTURES = (JPEG, *JPEG2000)
"""Compressions whose blocks are whole pictures, with a size and type of their own."""

COMPRESSION_NAMES: dict[int, str] = {
    1: "none",
    2: "CCITT run-length",
    3: "CCITT Group 3",
    4: "CCITT Group 4",
    5: "LZW",
    6: "old-style JPEG",
    7: "JPEG",
    8: "DEFLATE",
    32773: "PackBits",
    32946: "DEFLATE",
    33003: "JPEG 2000",
    33005: "JPEG 2000",
    34712: "JPEG 2000",
    34887: "LERC",
    34892: "lossy JPEG",
    34925: "LZMA",
    50000: "ZSTD",
    50001: "WebP",
    50002: "JPEG XL",
}

GREATEST_RATIO: dict[int, int] = {NONE: 1, LZW: 4096, DEFLATE: 1100, OLD_DEFLATE: 1100,
                                  PACKBITS: 80, ZSTD: 40000, RUN_LENGTH: 4000, FAX3: 40000,
                                  FAX4: 40000, JPEG: 4000, 33003: 40000, 33005: 40000,
                                  34712: 40000}  # fmt: skip
"""How many bytes one compressed byte can stand for at most, with room to spare."""

PHOTOMETRIC_NAMES: dict[int, str] = {
    0: "white is zero",
    1: "black is zero",
    2: "RGB",
    3: "palette",
    4: "transparency mask",
    5: "separated (CMYK)",
    6: "YCbCr",
    8: "CIE L*a*b*",
    9: "ICC L*a*b*",
    10: "ITU L*a*b*",
}
