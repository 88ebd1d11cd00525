"""DICOM: single files of every coding, packed by hand; what their numbers, texts and tags mean."""

from __future__ import annotations

import pickle
import struct
import warnings

import imagecodecs
import numpy as np
import pytest
from dicom_builder import (
    BIG,
    DEFLATED,
    EXPLICIT,
    IMPLICIT,
    encapsulated,
    image,
    mark,
)

import spectrane as sp
from spectrane.formats.dicom.characters import decoded
from spectrane.formats.dicom.dictionary import ELEMENTS
from spectrane.formats.dicom.lookups import _segments

RANDOM = np.random.default_rng(7)
GREY = RANDOM.integers(0, 4096, (6, 8)).astype(np.uint16)
RGB = RANDOM.integers(0, 256, (6, 8, 3)).astype(np.uint8)
RLE, JPEG, EXTENDED = (f"1.2.840.10008.1.2.{tail}" for tail in ("5", "4.50", "4.51"))
LOSSLESS, LOSSLESS_1, LS, J2K, J2K_LOSSY = (
    f"1.2.840.10008.1.2.4.{tail}" for tail in (57, 70, 80, 90, 91))  # fmt: skip
PLAIN_ITEMS = "1.2.840.10008.1.2.1.98"
UNPLACED = pytest.mark.filterwarnings("ignore:.*no ImagePositionPatient")


@pytest.fixture
def opened(tmp_path):
    def write(data, name="one.dcm", **options):
        path = tmp_path / name
        path.write_bytes(data)
        return sp.open(path, **options)

    return write


@pytest.mark.parametrize("syntax", [IMPLICIT, EXPLICIT, DEFLATED, BIG])
@pytest.mark.parametrize("dtype", ["u1", "i1", "u2", "i2", "u4", "i4"])
def test_every_plain_coding_gives_the_same_numbers(opened, syntax, dtype):
    values = RANDOM.integers(-90, 90, (3, 4)).astype(dtype)
    raster = opened(image(_big_words(values) if syntax == BIG else values, syntax=syntax))
    assert raster.dtype == values.dtype
    np.testing.assert_array_equal(raster.pixels()[0], values)
    again = pickle.loads(pickle.dumps(raster))
    np.testing.assert_array_equal(again.pixels(rows=(1, 3), columns=(2, 4))[0], values[1:3, 2:4])


def _big_words(values):
    """Return numbers that, written big-endian, lie as words of 16 bits do (PS3.5 6.2, OW)."""
    if values.dtype.itemsize < 4:
        return values
    words = values.astype(values.dtype.newbyteorder("<")).view("<u2")
    return words.astype(">u2").view(values.dtype.newbyteorder(">")).astype(values.dtype)


def test_bytes_in_words_of_a_big_endian_file_change_places(opened):
    values = np.arange(12, dtype=np.uint8).reshape(3, 4)
    swapped = values.reshape(-1, 2)[:, ::-1].reshape(3, 4)
    np.testing.assert_array_equal(opened(image(swapped, syntax=BIG, vr="OW")).pixels()[0], values)
    np.testing.assert_array_equal(opened(image(values, syntax=BIG, vr="OB")).pixels()[0], values)


@pytest.mark.parametrize(
    ("bits", "high", "signed", "raw", "wanted"),
    [
        (12, 11, 0, [0x0FFF, 0xF001], [4095, 1]),  # the high bits hold something else
        (12, 11, 1, [0x0FFF, 0x0800, 0x07FF], [-1, -2048, 2047]),
        (12, 15, 0, [0xFFF0, 0x001F], [4095, 1]),
        (10, 13, 1, [0x3FF0, 0x2000, 0x1FFF], [-1, -512, 511]),
        (16, 15, 1, [0xFFFF, 0x8000], [-1, -32768]),
        (1, 0, 0, [3, 2], [1, 0]),
    ],
)
def test_stored_bits_are_taken_from_where_they_lie(opened, bits, high, signed, raw, wanted):
    raster = opened(image(np.array([raw], np.uint16), bits=bits, high=high, signed=signed))
    assert raster.pixels()[0].tolist() == [wanted]
    assert raster.dtype == ("int16" if signed else "uint16")


@pytest.mark.parametrize("allocated", [12, 20])
def test_other_widths_are_no_dicom(opened, allocated):
    values = RANDOM.integers(0, 1 << 12, (3, 5)).astype("u4")
    with pytest.raises(sp.FormatError, match=f"BitsAllocated is {allocated}; expected 1 or a mult"):
        opened(image(values, packed=bytes(99), allocated=allocated, bits=12))


@UNPLACED
@pytest.mark.parametrize("allocated", [1, 24])
def test_samples_of_any_width_are_unpacked_across_frames(opened, allocated):
    values = RANDOM.integers(0, 1 << min(allocated, 20), (3, 3, 5))
    bits = (values.ravel()[:, None] >> np.arange(allocated)) & 1
    packed = np.packbits(bits.ravel().astype(np.uint8), bitorder="little").tobytes()
    volume = opened(image(values.astype(np.uint32), packed=packed, allocated=allocated,
                          bits=allocated, frames=3, vr="OW"))  # fmt: skip
    read = volume.voxels(physical=False)
    np.testing.assert_array_equal(read, values.transpose(2, 1, 0))
    assert read.dtype == {1: "uint8", 24: "uint32"}[allocated]


@pytest.mark.parametrize(("vr", "dtype"), [("OF", "f4"), ("OD", "f8")])
@pytest.mark.parametrize("syntax", [EXPLICIT, BIG])
def test_floats_are_read(opened, vr, dtype, syntax):
    values = np.array([[1.5, -2.25], [1e-3, 7]], dtype)
    raster = opened(image(values, vr=vr, syntax=syntax, signed=0))
    np.testing.assert_array_equal(raster.pixels()[0], values)


def _packbits(data):
    """Pack bytes as PS3.5 annex G does: literal runs alone."""
    runs = [data[k : k + 128] for k in range(0, len(data), 128)]
    out = b"".join(bytes([len(run) - 1]) + run for run in runs)
    return out + b"\0" * (len(out) % 2)


def _rle(frame):
    cube = np.atleast_3d(frame)
    planes = [cube[..., s].astype(cube.dtype.newbyteorder(">")).tobytes()[byte :: cube.itemsize]
              for s in range(cube.shape[2]) for byte in range(cube.itemsize)]  # fmt: skip
    parts = [_packbits(plane) for plane in planes]
    starts = np.cumsum([64, *map(len, parts)])[:-1].tolist()
    return struct.pack("<16I", len(parts), *starts, *[0] * (15 - len(parts))) + b"".join(parts)


GREY_CODECS = [
    (RLE, _rle, 0),
    (EXTENDED, lambda a: imagecodecs.jpeg8_encode(a, level=100, bitspersample=12), 4),
    (LOSSLESS, lambda a: imagecodecs.ljpeg_encode(a, bitspersample=12), 0),
    (LOSSLESS_1, lambda a: imagecodecs.jpeg8_encode(a, lossless=True, bitspersample=16), 0),
    (LS, imagecodecs.jpegls_encode, 0),
    (J2K, lambda a: imagecodecs.jpeg2k_encode(a, codecformat="j2k", reversible=True, level=0), 0),
    (PLAIN_ITEMS, lambda a: a.astype("<u2").tobytes(), 0),
]


@UNPLACED
@pytest.mark.parametrize(("syntax", "encode", "within"), GREY_CODECS)
@pytest.mark.parametrize(("table", "split"), [(True, 1), (False, 1), (True, 2), (False, 2)])
def test_packed_frames_come_back(opened, syntax, encode, within, table, split):
    frames = [GREY, GREY[::-1], GREY[:, ::-1]]
    packed = encapsulated([encode(np.ascontiguousarray(f)) for f in frames], table=table,
                          split=split)  # fmt: skip
    volume = opened(image(np.stack(frames), packed=packed, syntax=syntax, bits=12, frames=3))
    if syntax in (RLE, PLAIN_ITEMS) and not table and split > 1:
        with pytest.raises(sp.FormatError, match="6 fragments of pixel data make no 3 frames"):
            volume.voxels()
        return
    read = volume.voxels(physical=False).astype(int)
    assert np.abs(read.transpose(2, 1, 0) - np.stack(frames)).max() <= within
    one = opened(image(GREY, syntax=syntax, bits=12,
                       packed=encapsulated([encode(GREY)], table=table, split=split)))  # fmt: skip
    assert np.abs(one.pixels()[0].astype(int) - GREY).max() <= within
    assert one.metadata["compression"] != ""
    assert one.metadata["bits"] == 12


def test_signed_samples_keep_their_sign_through_codecs(opened):
    values = RANDOM.integers(-2000, 2000, (6, 8)).astype(np.int16)
    j2k = imagecodecs.jpeg2k_encode(values, codecformat="j2k", reversible=True, level=0)
    ljpeg = imagecodecs.ljpeg_encode(values.view(np.uint16), bitspersample=16)
    for syntax, data in ((J2K, j2k), (LOSSLESS, ljpeg), (RLE, _rle(values.view(np.uint16)))):
        raster = opened(image(values, syntax=syntax, packed=encapsulated([data])))
        np.testing.assert_array_equal(raster.pixels()[0], values)


def _ybr(rgb):
    """Convert by PS3.3 C.7.6.3.1.2."""
    r, g, b = np.moveaxis(rgb.astype(float), -1, 0)
    y = 0.299 * r + 0.587 * g + 0.114 * b
    cb, cr = 128 + (b - y) / 1.772, 128 + (r - y) / 1.402
    return np.clip(np.round(np.stack([y, cb, cr], -1)), 0, 255).astype(np.uint8)


def _422(ybr):
    pairs = ybr.reshape(6, 4, 2, 3)
    return np.concatenate([pairs[..., 0], pairs[:, :, 0, 1:]], axis=-1).astype(np.uint8)


SMOOTH = np.repeat(RGB[:, ::2], 2, axis=1)  # two neighbours share their colours
COLOURS = [
    ("RGB", image(RGB, photometric="RGB"), RGB, 0),
    ("planar", image(RGB, photometric="RGB", planar=1, packed=RGB.transpose(2, 0, 1).tobytes()),
     RGB, 0),
    ("16 bits", image(RGB.astype(np.uint16) * 200, photometric="RGB"), RGB.astype(int) * 200, 0),
    ("YBR_FULL", image(_ybr(RGB), photometric="YBR_FULL"), RGB, 2),
    ("YBR_FULL_422", image(RGB, photometric="YBR_FULL_422", packed=_422(_ybr(SMOOTH)).tobytes()),
     SMOOTH, 2),
    ("RLE", image(RGB, photometric="RGB", syntax=RLE, packed=encapsulated([_rle(RGB)])), RGB, 0),
    ("RLE of YBR", image(RGB, photometric="YBR_FULL", syntax=RLE,
                         packed=encapsulated([_rle(_ybr(RGB))])), RGB, 2),
    ("JPEG of RGB", image(RGB, photometric="RGB", syntax=JPEG, packed=encapsulated([
        imagecodecs.jpeg8_encode(RGB, level=100, colorspace="RGB", outcolorspace="RGB",
                                 subsampling="444")])), RGB, 6),
    ("JPEG of YBR", image(RGB, photometric="YBR_FULL_422", syntax=JPEG, packed=encapsulated([
        imagecodecs.jpeg8_encode(RGB, level=100, colorspace="RGB", outcolorspace="YCBCR",
                                 subsampling="444")])), RGB, 6),
    ("JPEG 2000", image(RGB, photometric="YBR_RCT", syntax=J2K, packed=encapsulated([
        imagecodecs.jpeg2k_encode(RGB, codecformat="j2k", reversible=True, level=0, mct=True)])),
     RGB, 0),
    ("JPEG-LS", image(RGB, photometric="RGB", syntax=LS,
                      packed=encapsulated([imagecodecs.jpegls_encode(RGB)])), RGB, 0),
]  # fmt: skip


@pytest.mark.parametrize(("data", "wanted", "within"), [one[1:] for one in COLOURS],
                         ids=[one[0] for one in COLOURS])  # fmt: skip
def test_colours_come_as_red_green_blue(opened, data, wanted, within):
    raster = opened(data)
    assert [band.role for band in raster.bands] == ["red", "green", "blue"]
    read = raster.pixels().astype(int).transpose(1, 2, 0)
    assert np.abs(read - wanted).max() <= within
    assert raster.pixels(["blue"], columns=(2, 4))[0].shape == (6, 2)


@pytest.mark.parametrize("signed", [0, 1])
def test_palettes_colour_without_touching_the_numbers(opened, signed):
    first = -2 if signed else 5
    # The last two lie outside what the palette maps: its end entries are for them.
    numbers = np.array([[first, first + 1, first + 2, first - 1, 99]],
                       np.int8 if signed else np.uint8)  # fmt: skip
    tables = {0x00281101: (0xFFFF, 0, 128 << 8), 0x00281102: (0, 0xFFFF, 0), 0x00281103: (0, 0, 0)}
    more = [(tag, "SS" if signed else "US", [3, first, 16]) for tag in tables]
    more += [(tag + 0x100, "OW", struct.pack("<3H", *v)) for tag, v in tables.items()]
    raster = opened(image(numbers, photometric="PALETTE COLOR", more=more))
    assert raster.pixels()[0].tolist() == numbers.tolist()
    red, green, brown = [255, 0, 0, 255], [0, 255, 0, 255], [128, 0, 0, 255]
    assert sp.render(raster).rgba[0].tolist() == [red, green, brown, red, brown]


@pytest.mark.parametrize(
    ("words", "wanted"),
    [
        ([0, 2, 7, 9, 1, 3, 15], [7, 9, 11, 13, 15]),
        ([0, 1, 4, 1, 2, 8, 2, 1, 6, 0], [4, 6, 8, 8, 8]),  # the segment at byte 6 once more
    ],
)
def test_segments_of_palettes_are_expanded(words, wanted):
    assert _segments(words, 100) == wanted


MODALITY = [(0x00283000, "SQ", [[
    (0x00283002, "US", [4, 2, 16]), (0x00283004, "LO", "HU"),
    (0x00283006, "US", [0, 1000, 30, 65535])]])]  # fmt: skip


def test_a_modality_table_is_applied_on_reading_and_said_to_be(opened):
    stored = np.array([[0, 2, 3, 4, 9]], np.uint16)
    raster = opened(image(stored, more=[*MODALITY, (0x00280120, "US", 9)]))
    read = raster.pixels(physical=True)[0]
    assert read.tolist() == [[0, 0, 1000, 30, None]]
    assert raster.bands[0].unit == "HU"
    assert "applied" in raster.metadata["modality LUT"]


@pytest.mark.parametrize(
    ("more", "signed", "hidden"),
    [
        ([(0x00280120, "US", 7)], 0, [7]),
        ([(0x00280120, "US", 5), (0x00280121, "US", 7)], 0, [5, 6, 7]),
        ([(0x00280120, "SS", -5), (0x00280121, "SS", -7)], 1, [-5, -6, -7]),
        ([(0x00280120, "US", 65531)], 1, [-5]),  # the element's sign is wrong, as in many files
        ([], 0, []),
    ],
)
@pytest.mark.parametrize("syntax", [EXPLICIT, IMPLICIT])
def test_padding_is_no_data_before_rescaling(opened, more, signed, hidden, syntax):
    values = (np.arange(20) - 9 * signed).reshape(4, 5).astype(np.int16 if signed else np.uint16)
    raster = opened(image(values, syntax=syntax, more=[
        *more, (0x00281052, "DS", "-1000"), (0x00281053, "DS", "2")]))  # fmt: skip
    read = raster.pixels(physical=True)[0]
    assert sorted(values[read.mask].tolist() if hidden else []) == sorted(hidden)
    assert read.compressed()[0] == int(values[~np.ma.getmaskarray(read)][0]) * 2 - 1000


@pytest.mark.parametrize(
    ("sets", "raw", "wanted"),
    [
        (["ISO_IR 192"], "Wang^小东".encode(), "Wang^小东"),
        (["GB18030"], "王^小东".encode("gb18030"), "王^小东"),
        (["ISO_IR 144"], "Люкceмбypг".encode("iso8859_5"), "Люкceмбypг"),
        (["ISO_IR 13"], b"\xd4\xcf\xc0\xde^\xc0\xdb\xb3", "ﾔﾏﾀﾞ^ﾀﾛｳ"),
        (["ISO_IR 13", "ISO 2022 IR 87"],
         b"\xd4\xcf\xc0\xde^\xc0\xdb\xb3=\x1b$B;3ED\x1b(J^\x1b$BB@O:\x1b(J", "ﾔﾏﾀﾞ^ﾀﾛｳ=山田^太郎"),
        (["", "ISO 2022 IR 149"], b"Hong^Gildong=\x1b$)C\xfb\xf3^\x1b$)C\xd1\xce\xd4\xd7",
         "Hong^Gildong=洪^吉洞"),
        (["", "ISO 2022 IR 58"], b"Zhang^XiaoDong=\x1b$)A\xd5\xc5^\x1b$)A\xd0\xa1\xb6\xab",
         "Zhang^XiaoDong=张^小东"),
        (["ISO 2022 IR 6", "ISO 2022 IR 100"], b"\x1b-AJ\xe9r\xf4me", "Jérôme"),
        (["", "ISO 2022 IR 159"], b"\x1b$(D\x30\x21\x1b(B!", "丂!"),
        (["nonsense"], b"caf\xe9", "café"),
    ],
)  # fmt: skip
def test_texts_of_every_character_set_are_decoded(sets, raw, wanted):
    assert decoded(raw, sets, name=True) == wanted


@pytest.mark.parametrize("syntax", [IMPLICIT, EXPLICIT, BIG])
@pytest.mark.parametrize("kind", ["SQ", "SQ?"])
def test_sequences_private_elements_and_sets_of_characters(opened, syntax, kind):
    inner = [(0x00080100, "SH", "T-1"), (0x00091010, "LO", "B")]
    raster = opened(image(GREY, syntax=syntax, more=[
        (0x00080005, "CS", "ISO_IR 192"), (0x0008103E, "LO", "Größe".encode()),
        (0x00082218, kind, [inner, [(0x00089215, kind, [inner])]]),
        (0x00090010, "LO", "ACME"), (0x00091001, "LO", "secret"),
        (0x00189073, "FD", 2.5), (0x00280009, "AT", [0x0018, 0x1063]),
        (0x00204000, "LT", "one\\two")]))  # fmt: skip
    told = raster.metadata
    assert told["SeriesDescription"] == "Größe"
    assert told["AnatomicRegionSequence"][0]["CodeValue"] == "T-1"
    assert told["AnatomicRegionSequence"][1]["DerivationCodeSequence"][0]["CodeValue"] == "T-1"
    secret = told["(0009,1001) ACME"]
    assert secret == (b"secret" if syntax == IMPLICIT else "secret")
    assert (told["AcquisitionDuration"], told["FrameIncrementPointer"]) == (2.5, "(0018,1063)")
    assert told["ImageComments"] == "one\\two"
    assert "(0009,1001) ACME" in raster.identity
    assert "Rows" not in raster.identity


def test_packed_icons_are_passed_over_and_high_throughput_is_read(opened):
    icon = struct.pack("<HH2sHI", 0x7FE0, 0x0010, b"OB", 0, 0xFFFFFFFF) + encapsulated([b"abcd"])
    inside = mark(0xFFFEE000, len(icon)) + icon
    raw = struct.pack("<HH2sHI", 0x0011, 0x1010, b"SQ", 0, len(inside)) + inside
    data = image(GREY)
    at = data.index(struct.pack("<HH", 0x0020, 0x000E))
    raster = opened(data[:at] + raw + data[at:])
    np.testing.assert_array_equal(raster.pixels()[0], GREY)
    assert raster.metadata["(0011,1010)"] == [{}]
    packed = imagecodecs.htj2k_encode(np.tile(GREY, (8, 8)), reversible=True)
    large = np.tile(GREY, (8, 8))
    high = opened(image(large, syntax="1.2.840.10008.1.2.4.201", packed=encapsulated([packed])))
    np.testing.assert_array_equal(high.pixels()[0], large)


def test_an_unknown_representation_of_undefined_length_is_an_implicit_sequence(opened):
    inside = struct.pack("<HHI", 0x0008, 0x0100, 4) + b"T-1 "
    value = mark(0xFFFEE000, len(inside)) + inside + mark(0xFFFEE0DD, 0)
    raw = struct.pack("<HH2sHI", 0x0011, 0x1001, b"UN", 0, 0xFFFFFFFF) + value
    data = image(GREY)
    at = data.index(struct.pack("<HH", 0x0020, 0x000E))
    raster = opened(data[:at] + raw + data[at:])
    assert raster.metadata["(0011,1001)"] == [{"CodeValue": "T-1"}]
    np.testing.assert_array_equal(raster.pixels()[0], GREY)


def test_one_image_lies_in_millimetres_of_its_plane(opened):
    placed = [(0x00200032, "DS", "-5\\7\\9"), (0x00200037, "DS", "1\\0\\0\\0\\0.8\\-0.6"),
              (0x00280030, "DS", "0.5\\0.8")]  # fmt: skip
    raster = opened(image(GREY, more=placed))
    assert raster.grid.center(row=0, column=0) == pytest.approx((-5, 7 * 0.8 - 9 * 0.6))
    assert raster.grid.pixel_size == (0.8, 0.5)
    said = str(raster.describe())
    assert "0.8 x 0.5 mm" in said
    assert "columns run to L, rows to PF" in said
    assert "no coordinate system" not in said
    detector = opened(image(GREY, more=[(0x00181164, "DS", "0.2\\0.2")]))
    assert "at the detector, not in the patient" in str(detector.describe())
    assert detector.grid.pixel_size == (0.2, 0.2)


def test_overlay_planes_and_burned_in_names_are_told(opened):
    more = [(0x60020010, "US", 6), (0x60020011, "US", 8), (0x60020040, "CS", "G"),
            (0x60020050, "SS", [1, 1]), (0x60023000, "OW", bytes(6)),
            (0x00280301, "CS", "YES")]  # fmt: skip
    with pytest.warns(sp.DataWarning, match="BurnedInAnnotation"):
        raster = opened(image(GREY, more=more))
    assert raster.metadata["overlays"] == ["8 x 6 at row 1, column 1, graphics"]
    assert "8 x 6 at row 1, column 1, graphics; not drawn" in str(raster.describe())


def test_numbers_are_numbers_whatever_the_file_calls_them(opened):
    raster = opened(
        image(
            GREY,
            more=[
                (0x00281050, "LO", "40"),
                (0x00281051, "SH", "400"),
                (0x00281053, "UN", b"2 "),
                (0x00280030, "ST", "1\\2"),
            ],
        )
    )
    assert (raster.windows[0].center, raster.bands[0].scale) == (40.0, 2.0)
    assert raster.grid.pixel_size == (2.0, 1.0)


BROKEN = [
    (image(GREY)[:-10], "may be cut short"),
    (image(GREY, without={0x00280010}), "Rows is missing"),
    (image(GREY, bits=17), "BitsStored is 17"),
    (image(GREY, high=40), "HighBit is 40"),
    (image(RGB, photometric="HSV"), "PhotometricInterpretation"),
    (image(GREY, syntax="1.2.840.10008.1.2.4.100", packed=b""), "4.100: not supported"),
    (image(GREY, frames=10), "10 frames of 8 x 6"),
    (image(GREY, more=[(0x00281053, "DS", "0")]), "RescaleSlope"),
    (image(GREY, more=[(0x00281053, "DS", "two")]), "'two' is no DS|b'two ' is no DS"),
    (image(GREY, more=[(0x00281050, "DS", "1\\2"), (0x00281051, "DS", "3")]), "WindowWidth"),
    (image(GREY, more=[(0x00281050, "DS", "1"), (0x00281051, "DS", "3"),
                       (0x00281056, "CS", "CUBIC")]), "VOILUTFunction"),
    (image(GREY, more=[(0x00280030, "DS", "0\\1")]), "PixelSpacing"),
    (image(GREY, more=[(0x00200037, "DS", "1\\0\\0\\1\\0\\0")]), "ImageOrientationPatient"),
    (image(GREY, more=[(0x00200032, "DS", "1\\0")]), "ImagePositionPatient"),
    (image(GREY, more=[(0x00480006, "UL", 5000)]), "tiles"),
    (image(GREY, more=[(0x00283000, "SQ", [[(0x00283002, "US", [9, 0, 16])]])]), "LUTDescriptor"),
    (image(GREY, photometric="PALETTE COLOR"), "PaletteColorLookupTableDescriptor"),
    (image(GREY, syntax=J2K, packed=encapsulated([b"\xff\x4f\xff\x51" + bytes(60)])), "frame 1"),
    (image(GREY, syntax=RLE, packed=encapsulated([struct.pack("<16I", 9, *[64] * 15)])), "RLE"),
    (image(GREY, syntax=LS, packed=encapsulated([imagecodecs.jpegls_encode(GREY[:3])])), "8 x 3"),
    (image(GREY, syntax=J2K, packed=b"\1\2\3\4" * 4), "fragment"),
]  # fmt: skip


@pytest.mark.parametrize(("data", "match"), BROKEN)
def test_broken_files_name_the_element(opened, data, match):
    with pytest.raises(sp.FormatError, match=match) as caught:
        opened(data).pixels()
    assert "one.dcm" in str(caught.value)


def test_hostile_bytes_end_in_an_error_of_ours_or_a_raster(tmp_path):
    whole = image(GREY, more=[*MODALITY, (0x00082218, "SQ?", [[(0x00080100, "SH", "T-1")]])])
    packed = image(GREY, syntax=RLE, packed=encapsulated([_rle(GREY)]), bits=12)
    path = tmp_path / "hostile.dcm"
    for number in range(400):
        data = bytearray((whole, packed)[number % 2])
        for _ in range(RANDOM.integers(1, 4)):
            at = int(RANDOM.integers(132, len(data)))
            data[at] = int(RANDOM.integers(0, 256))
        path.write_bytes(bytes(data[: None if number % 3 else int(RANDOM.integers(1, len(data)))]))
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            try:
                found = sp.open(path)
                found.pixels() if isinstance(found, sp.Raster) else found.voxels()
            except sp.SpectraneError:
                pass


def test_the_dictionary_is_sound():
    assert all(len(vr) == 2 and word[0].isupper() for vr, word in ELEMENTS.values())
    assert len({word for _, word in ELEMENTS.values()}) == len(ELEMENTS)
