"""The table of formats: ours, those that others add, and those that fail."""

from __future__ import annotations

import sys
import types
from dataclasses import FrozenInstanceError

import numpy as np
import pytest

import spectrane as sp
from spectrane.engine.memory import ArraySource
from spectrane.formats import table
from spectrane.formats.table import BUILT_IN, Format, Probe, formats
from spectrane.model.errors import DataWarning, FormatError
from spectrane.model.member import Member


class TallyReader:
    """A format of one's own: a line of text, then bytes."""

    def matches(self, probe):
        return probe.head.startswith(b"TALLY ")

    def members(self, file):
        rows, columns = map(int, file.head().split(b"\n")[0].split()[1:])
        return [Member(1, "", rows, columns, 1, "uint8")]

    def open(self, file, member=None):
        (one,) = self.members(file)
        data = file.read(file.size - one.rows * one.columns, one.rows * one.columns)
        source = ArraySource(np.frombuffer(data, "u1").reshape(1, one.rows, one.columns))
        source.format, source.name = "Tally", file.name
        return source


def write_tally(source, target, *, overwrite=False, progress=print):
    with open(target, "wb") as file:
        file.write(b"TALLY %d %d\n" % source.shape)
        pixels = source.read([0], tuple((0, n) for n in source.shape))
        file.write(pixels.values.tobytes())


class FailingReader(TallyReader):
    def matches(self, probe):
        raise RuntimeError("out of order")


@pytest.fixture
def added(monkeypatch):
    """Add entry points: name -> what it loads (an exception is raised)."""

    def add(**loads):
        looked_up = []

        class Point:
            def __init__(self, name):
                self.name, self.value = name, f"somewhere:{name}"

            def load(self):
                looked_up.append(self.name)
                if isinstance(loads[self.name], Exception):
                    raise loads[self.name]
                return loads[self.name]

        module = types.ModuleType("somewhere")
        module.TallyReader, module.write_tally = TallyReader, write_tally
        module.FailingReader = FailingReader
        monkeypatch.setitem(sys.modules, "somewhere", module)
        monkeypatch.setattr(
            "importlib.metadata.entry_points",
            lambda group: map(Point, loads if group == table.ENTRY_POINTS else ()),
        )
        monkeypatch.setattr(table, "_added", None)
        monkeypatch.setattr(table, "_failed", set())
        return looked_up

    return add


TALLY = Format("Tally", "somewhere:TallyReader", rb"TALLY ", writer="somewhere:write_tally",
               endings=(".tally",))  # fmt: skip


def test_a_format_of_others_reads_and_writes(tmp_path, added):
    looked_up = added(tally=TALLY)
    array = np.arange(12, dtype="u1").reshape(1, 3, 4)
    sp.from_array(array).save(tmp_path / "a.tally")
    with sp.open(tmp_path / "a.tally") as raster:
        np.testing.assert_array_equal(raster.pixels().data, array)
    assert sp.survey(tmp_path).format.tolist() == ["Tally"]
    with pytest.raises(FormatError, match="Tally has no place inside"):
        sp.amend(tmp_path / "a.tally", nodata=0, inside=True)
    assert looked_up == ["tally"]  # once per process
    assert formats()[-1] is TALLY


FAILING = {
    "cannot be loaded": (ImportError("no such module"), "ImportError: no such module"),
    "is no format": (TallyReader, "it is a TallyReader, not a"),
    "takes a name": (Format("TIFF", "somewhere:TallyReader"), "there is a format of that name"),
    "takes an ending": (Format("T", writer="somewhere:write_tally", endings=(".png",)),
                        r"\.png is the ending of another format"),
}  # fmt: skip


@pytest.mark.parametrize("name", FAILING)
def test_one_that_cannot_be_used_is_told_once_and_passed_over(tmp_path, added, name):
    load, wanted = FAILING[name]
    added(bad=load, tally=TALLY)
    (tmp_path / "a.txt").write_text("nothing")
    (tmp_path / "a.tally").write_bytes(b"TALLY 1 2\nab")
    with pytest.warns(DataWarning, match=rf"the format bad \(somewhere:bad\).*{wanted}") as told:
        found = [sp.survey(tmp_path).format.tolist() for _ in range(2)]
    assert (found, len(told)) == ([["Tally"]] * 2, 1)


def test_a_reader_that_fails_stops_nothing(tmp_path, added):
    added(bad=Format("Bad", "somewhere:FailingReader"), tally=TALLY)
    for k in range(3):
        (tmp_path / f"{k}.txt").write_text("nothing")
    (tmp_path / "a.tally").write_bytes(b"TALLY 1 2\nab")
    with pytest.warns(DataWarning, match="the format Bad cannot be used: its reader fails") as told:
        found = sp.survey(tmp_path)
    assert found.format.tolist() == ["Tally"]
    assert len(told) == 1


def test_the_table_is_read_only_and_looks_before_it_loads():
    with pytest.raises(FrozenInstanceError):
        BUILT_IN[0].name = "other"
    for one in BUILT_IN:
        assert not one.begins(Probe(b"plain text, of no format", "a.txt"))
        for what in ("reader", "writer", "amend"):
            assert getattr(one, what) is None or callable(one.load(what))


def test_of_files_of_no_format_nothing_is_loaded(tmp_path, monkeypatch):
    for k in range(20):
        (tmp_path / f"{k}.txt").write_text(f"line {k}\n")
    monkeypatch.setattr(Format, "load", lambda *given: pytest.fail(f"{given} was loaded"))
    assert len(sp.survey(tmp_path)) == 0
