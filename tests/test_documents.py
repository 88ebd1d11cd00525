"""Documents keep their word: tables are the registries', and the code in them runs."""

from __future__ import annotations

import re
import runpy
import types
from pathlib import Path

import pytest

from spectrane.model.curves import Curve
from spectrane.model.limits import Limits
from spectrane.model.rules import table

DOCS = Path(__file__).parent.parent / "docs"


def test_tables_are_those_of_the_registries():
    tables = runpy.run_path(str(DOCS / "tables.py"))
    for name in tables["TABLES"]:
        text = (DOCS / name).read_text(encoding="utf-8")
        assert tables["filled"](name, text) == text, f"{name} is behind: make docs"


def test_the_code_that_shows_how_to_extend_runs(monkeypatch, run):
    for kind in (Limits, Curve):
        monkeypatch.setattr(kind, "known", dict(kind.known))
    text = (DOCS / "extending.md").read_text(encoding="utf-8")
    module = types.ModuleType("extending")
    monkeypatch.setitem(__import__("sys").modules, "extending", module)
    for block in re.findall(r"```python\n(.*?)```", text, flags=re.DOTALL):
        exec(compile(block, "extending.md", "exec"), module.__dict__)
    assert "| `steps[:n]` | n 2 to 256 (else 4) | u in n even steps |" in table(Curve)
    with pytest.raises(TypeError, match="known already"):
        type("Other", (Curve,), {}, name="gamma")


def test_options_tell_the_rules_there_are(run):
    status, said, _ = run("render", "--help")
    assert status == 0
    words = " ".join(said.split())
    for kind in (Limits, Curve):
        for rule in kind.known.values():
            assert rule.form().split(", ")[0].replace("…", "") in words.replace("…", "")
