"""Band descriptions in XMP, and formats told by content."""

from __future__ import annotations

import numpy as np
import pytest

from spectrane.engine.cache import BlockCache
from spectrane.formats import registry, table
from spectrane.formats.tiff import xmp
from spectrane.model.band import Band, numbered
from spectrane.model.errors import DataWarning, FormatError
from spectrane.model.look import Look

NAMED = (
    Band("B1", "blue", 490.0, "1", 1e-4, -0.5, None, "a < b & c"),
    Band("B2", nodata=(0, (250, 255))),
)
CLASSES = {
    1.0: ("#ff0000", "one"),
    2.5: ("#00ff0080", "two & a half"),
}


def test_nothing_to_say_is_no_packet():
    assert xmp.packet(numbered(3), None) == b""
    assert xmp.packet((Band("band 1", nodata=0),), None) == b""


@pytest.mark.parametrize("when", ["any", "all"])
@pytest.mark.parametrize("classes", [{}, CLASSES])
def test_a_packet_comes_back(when, classes):
    look = Look(classes=classes, limits=(0, 5))
    raw = xmp.packet(NAMED, look, when, notes="from <here>", stale_overviews=True)
    words = xmp.described(raw, numbered(2), "a.tif")
    assert words == xmp.XmpFields(NAMED, classes, when, look, "from <here>", True)


def test_a_packet_of_another_program_keeps_its_words():
    other = b"<x:xmpmeta><rdf:RDF><rdf:Description a='b'/></rdf:RDF></x:xmpmeta>"
    once = xmp.merged(other, xmp.packet(NAMED, None))
    twice = xmp.merged(once, xmp.packet(NAMED[:1], None))
    assert b"a='b'" in twice
    assert twice.count(b"<spectrane:bands>") == 1


def test_another_packet_changes_nothing():
    bands = numbered(2)
    assert xmp.described(b"<x/>", bands, "a.tif") == xmp.XmpFields(bands)
    assert xmp.described(b"", bands, "a.tif") == xmp.XmpFields(bands)


GOOD = xmp.packet(NAMED, Look(classes=CLASSES))


@pytest.mark.parametrize(
    ("raw", "count", "match"),
    [
        (GOOD, 3, "describes 2 bands of 3"),
        (GOOD[: len(GOOD) // 2], 2, "not well-formed"),
        (GOOD.replace(b"490.0", b"blue"), 2, "not usable"),
        (GOOD.replace(b"#ff0000", b"crimson"), 2, "expected #rrggbb"),
        (
            b'<!DOCTYPE x [<!ENTITY a "b">]>' + GOOD.split(b"?>", 1)[1],
            2,
            "not well-formed",
        ),
    ],
    ids=["count", "cut", "number", "colour", "entity"],
)
def test_a_packet_that_cannot_be_used_is_told(raw, count, match):
    with pytest.warns(DataWarning, match=match):
        words = xmp.described(raw, numbered(count), "a.tif")
    assert words == xmp.XmpFields(numbered(count))


def test_control_characters_do_not_break_a_packet():
    raw = xmp.packet((Band("a\x00\x1bb"),), None)
    assert xmp.described(raw, numbered(1), "a.tif").bands[0].name == "ab"


@pytest.mark.parametrize(
    ("head", "known"),
    [
        (b"II*\0", True),
        (b"MM\0*", True),
        (b"II+\0", True),
        (b"MM\0+", True),
        (b"II\0*", False),
        (b"", False),
        (b"\x89PNG", False),
    ],
)
def test_tiff_is_told_by_its_first_bytes(head, known):
    from spectrane.formats.tiff.reader import TiffReader

    assert TiffReader().matches(table.Probe(head, "a")) == known


@pytest.mark.parametrize(
    ("name", "match"),
    [
        ("a.xyz", "cannot write .xyz"),
        ("a", "a file without an ending"),
    ],
)
def test_an_unknown_ending_is_told(name, match):
    with pytest.raises(FormatError, match=match):
        table.writer_for(name)


@pytest.mark.parametrize("name", ["a.tif", "A.TIFF", "folder/a.tiff"])
def test_endings_name_their_writer(name):
    from spectrane.formats.tiff.writer import write_tiff

    assert table.writer_for(name) is write_tiff


@pytest.mark.parametrize("error", [IndexError, KeyError, OverflowError, ValueError])
def test_a_slip_in_a_reader_becomes_a_format_error(error):
    class Slipping:
        def open(self, file, member=None):
            raise error("slip")

    class Named:
        name = "a.tif"

    with pytest.raises(FormatError, match=r"a\.tif: broken header"):
        registry.open_with(Slipping(), Named())


def test_the_cache_keeps_what_was_used_last():
    cache = BlockCache(limit=250)
    for name in "abc":
        cache.put(name, np.zeros(100, np.uint8))
    assert cache.get("a") is None
    assert cache.get("b") is not None
    cache.put("d", np.zeros(100, np.uint8))
    assert cache.get("c") is None  # b was asked for since
    assert cache.get("b") is not None


def test_the_cache_counts_a_replaced_block_once():
    cache = BlockCache(limit=250)
    for _ in range(5):
        cache.put("a", np.zeros(100, np.uint8))
    cache.put("b", np.zeros(100, np.uint8))
    assert cache.get("a") is not None
    assert cache.get("b") is not None


def test_a_block_larger_than_the_cache_is_not_kept():
    cache = BlockCache(limit=50)
    cache.put("a", np.zeros(100, np.uint8))
    assert cache.get("a") is None
    cache.put("b", np.zeros(10, np.uint8))
    cache.clear()
    assert cache.get("b") is None


def test_what_is_looked_at_again_and_again_may_fill_the_cache():
    cache = BlockCache(limit=400)
    assert (cache.takes(100), cache.takes(101)) == (True, False)
    with cache.for_views(80):
        assert (cache.takes(80), cache.takes(81)) == (True, False)
    assert (cache.takes(100), cache.takes(101)) == (True, False)
