"""The snippets of the site run: Python as it stands, commands as they are typed."""

from __future__ import annotations

import re
import runpy
import shlex
import shutil
import warnings
from pathlib import Path

import matplotlib
import pytest

import spectrane as sp
from spectrane.cli import entry
from spectrane.cli.options import Grouped
from spectrane.formats import sidecar

DOCS = Path(__file__).parent.parent / "docs"
PAGES = ["start", "tutorial-satellite", "tutorial-photographs", "tutorial-volumes", "tutorial-sky",
         "how-to", "arrays", "index", "tour", "daily-work", "volumes", "scenes", "sheets", "view",
         "places", "extending"]  # fmt: skip
BESIDE = ("pip install", "cat ", "spectrane view", "spectrane demo")
"""Commands that are shown and not run here: they install, pipe, or go on until they are ended."""


def commands_in(text):
    """Return the commands of indented blocks, each in one line."""
    text = re.sub(r"```.*?```", "", text, flags=re.DOTALL).replace("\\\n", " ")
    lines = re.findall(r"^    (\S.*)$", text, re.MULTILINE)
    return [line.partition("  #")[0] for line in lines if not line.startswith(BESIDE)]


@pytest.mark.parametrize("page", PAGES)
def test_every_snippet_runs(page, demo, tmp_path, monkeypatch, run, capsys):
    matplotlib.use("agg")
    shutil.copytree(demo, tmp_path / "demo")
    monkeypatch.chdir(tmp_path)
    text = (DOCS / f"{page}.md").read_text(encoding="utf-8")
    held = {}
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        for code in re.findall(r"```python\n(.*?)```", text, flags=re.DOTALL):
            exec(compile(code, f"{page}.md", "exec"), held)
        for typed in commands_in(text):
            first, *words = shlex.split(typed)
            assert first == "spectrane", typed
            if "-o" in words:  # what a snippet before left
                Path(words[words.index("-o") + 1]).unlink(missing_ok=True)
            status, _, told = run(*words)
            assert status == 0, (typed, told)


@pytest.mark.parametrize(("page", "name", "more", "what"), [
    ("layers", "a.layers.toml", "", lambda name: len(sp.load_layers(name).layers) == 3),
    ("sheets", "a.layers.toml", '[[layer]]\nfile = "sound_8band.tif"',
     lambda name: sp.load_layers(name).sheet.title == "Eelgrass"),
    ("daily-work", "a.stack.toml", "", lambda name: sp.open(name).shape == (1, 1100, 1500)),
    ("sidecar", "a.tif.spectrane.toml", "",
     lambda name: sidecar.read("a.tif").bands[0].role == "blue"),
])  # fmt: skip
def test_files_that_are_shown_are_read(page, name, more, what, demo, monkeypatch, tmp_path):
    shutil.copytree(demo, tmp_path / "demo")
    monkeypatch.chdir(tmp_path / "demo")
    (shown,) = re.findall(r"```toml\n(.*?)```", (DOCS / f"{page}.md").read_text(encoding="utf-8"),
                          flags=re.DOTALL)  # fmt: skip
    Path(name).write_text(f"{shown}\n{more}")
    assert what(name)


def test_every_public_name_and_option_is_documented():
    build = runpy.run_path(str(DOCS / "build.py"))
    listed = {name for names in build["public_names"]().values() for name in names}
    assert listed | {"figures", "pages", "__version__"} >= set(sp.__all__)
    assert set(build["public_names"]()) <= set(build["_ORDER"])
    reference = build["reference"]()
    for name in listed - {"settings", "colormaps"}:
        assert f":: spectrane.{name}\n" in reference
        assert len(getattr(sp, name).__doc__) > 20
    said = build["commands"]()
    for name in entry.COMMANDS:
        command = entry.commands.get_command(None, name)
        for one in command.params:
            if isinstance(one, Grouped):
                assert f"`{', '.join(one.opts)}` | " in said
                assert one.help, (name, one.opts)
