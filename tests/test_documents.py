"""Documents keep their word: tables are the registries', and the code in them runs."""

from __future__ import annotations

import inspect
import re
import runpy
import sys
import tomllib
import types
from pathlib import Path

import pytest

from spectrane.formats import table as formats
from spectrane.model.curves import Curve
from spectrane.model.limits import Limits
from spectrane.model.rules import rules_table
from spectrane.testing import ReaderTests, WriterTests

DOCS = Path(__file__).parent.parent / "docs"


def test_tables_are_those_of_the_registries():
    tables = runpy.run_path(str(DOCS / "tables.py"))
    for name in tables["TABLES"]:
        text = (DOCS / name).read_text(encoding="utf-8")
        assert tables["filled"](name, text) == text, f"{name} is behind: make docs"


def test_a_package_index_shows_no_link_that_leads_nowhere():
    said = tomllib.loads((DOCS.parent / "pyproject.toml").read_text())["tool"]["hatch"]["metadata"]
    text = (DOCS.parent / "README.md").read_text(encoding="utf-8")
    assert "](docs/" in text
    for one in said["hooks"]["fancy-pypi-readme"]["substitutions"]:
        text = re.sub(one["pattern"], one["replacement"], text)
    assert re.findall(r"\]\((?!https?:)", text) == []
    assert "how it thinks" in text  # what a link said stays


def blocks_of(heading):
    text = (DOCS / "extending.md").read_text(encoding="utf-8")
    (part,) = re.findall(rf"^## {heading}\n(.*?)(?=^## |\Z)", text, re.DOTALL | re.MULTILINE)
    return re.findall(r"```python\n(.*?)```", part, flags=re.DOTALL)


@pytest.fixture
def strata(monkeypatch):
    """Everything that the document defines, the format among what is known."""
    for kind in (Limits, Curve):
        monkeypatch.setattr(kind, "known", dict(kind.known))
    module = types.ModuleType("strata")
    monkeypatch.setitem(sys.modules, "strata", module)
    for heading in ("A curve", "A rule for limits", "A format"):
        for block in blocks_of(heading):
            exec(compile(block, "extending.md", "exec"), module.__dict__)
    monkeypatch.setattr(formats, "_added", (module.FORMAT,))
    return module


def test_the_code_that_shows_how_to_extend_runs(strata):
    assert "| `steps[:n]` | n 2 to 256 (else 4) | u in n even steps |" in rules_table(Curve)
    with pytest.raises(TypeError, match="known already"):
        type("Other", (Curve,), {}, name="gamma")
    assert sum(block.count("\n") for block in blocks_of("A format")) < 60


CHECKS = [name for kind in (ReaderTests, WriterTests)
          for name in sorted(vars(kind)) if name.startswith("test_")]  # fmt: skip


@pytest.mark.parametrize("name", CHECKS)
def test_the_format_of_the_document_keeps_every_promise(strata, tmp_path, monkeypatch, name):
    test = getattr(strata.TestStrata(), name)
    wanted = inspect.signature(test).parameters
    test(**{key: one for key, one in {"tmp_path": tmp_path, "monkeypatch": monkeypatch}.items()
            if key in wanted})  # fmt: skip


def test_options_tell_the_rules_there_are(run):
    status, said, _ = run("render", "--help")
    assert status == 0
    words = " ".join(said.split())
    for kind in (Limits, Curve):
        for rule in kind.known.values():
            assert rule.form().split(", ")[0].replace("…", "") in words.replace("…", "")
