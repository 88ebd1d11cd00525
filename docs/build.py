"""Make the pages that follow from the code, and build the site: ``python docs/build.py [OUT]``."""

from __future__ import annotations

import json
import re
import subprocess
import sys
from pathlib import Path

import click

from spectrane.cli import entry
from spectrane.cli.options import Grouped

HERE = Path(__file__).parent
MADE = HERE / "_generated"
_TITLES = {
    "opening": "Opening", "raster": "Rasters", "volume": "Volumes", "masking": "Masks",
    "looking": "Showing", "display": "Showing", "together": "Bringing together",
    "measuring": "Measuring", "groups": "Groups in volumes", "analysis": "Measuring",
    "catalogs": "Scenes", "cataloguing": "Scenes", "exchange": "Hand-over",
    "spatial": "Places", "model": "What things are", "viewing": "Live view", "seeing": "Live view",
    "volumes": "Volumes",
}  # fmt: skip
_ORDER = ["Opening", "Rasters", "Volumes", "Showing", "Measuring", "Masks", "Places",
          "Bringing together", "Groups in volumes", "Hand-over", "Scenes", "Live view",
          "What things are"]  # fmt: skip


def public_names() -> dict[str, list[str]]:
    """Return the public names by heading, from the one list of them."""
    text = (HERE.parent / "src" / "spectrane" / "__init__.pyi").read_text(encoding="utf-8")
    found: dict[str, list[str]] = {}
    for module, name in re.findall(r"^from \.(\S+) import \S+ as (\S+)$", text, re.MULTILINE):
        found.setdefault(_TITLES[module.split(".")[0]], []).append(name)
    return found


def reference() -> str:
    """Return the page of all public names, each from its docstring."""
    import spectrane as sp

    found = public_names()
    parts = ["# Python\n", "`import spectrane as sp`. Everything public, by what it is for.\n"]
    for title in _ORDER:
        parts.append(f"## {title}\n")
        for name in sorted(found[title], key=lambda one: (one[0].islower(), one.lower())):
            held = getattr(sp, name)
            kind = "class" if isinstance(held, type) else "function" if callable(held) else "data"
            more = (
                "\n   :members:\n   :inherited-members: tuple, Exception" if kind == "class" else ""
            )
            parts.append(f"```{{eval-rst}}\n.. auto{kind}:: spectrane.{name}{more}\n```\n")
    for module, what in (("figures", "Charts"), ("pages", "Pages and tiles")):
        parts.append(f"## {what}\n")
        for name in getattr(sp, module).__all__:
            parts.append(f"```{{eval-rst}}\n.. autofunction:: spectrane.{module}.{name}\n```\n")
    return "\n".join(parts)


def commands() -> str:
    """Return the page of all commands, from their definitions."""
    context = click.Context(entry.commands, info_name="spectrane")
    parts = ["# Commands\n", "`spectrane COMMAND --help` says the same.\n"]
    for name, (_, what) in entry.COMMANDS.items():
        command = entry.commands.get_command(context, name)
        assert command is not None
        parts += [f"## {name}\n", f"{what[0].upper()}{what[1:]}\n"]
        parts += [f"{_prose(command.help or '')}\n", "```text"]
        parts += [f"spectrane {one}" for one in getattr(command, "examples", ())]
        parts += ["```\n", "| option | meaning |", "| --- | --- |"]
        for one in command.params:
            if isinstance(one, Grouped):
                meaning = (one.help or "").replace("|", "\\|").replace("\n", " ")
                parts.append(f"| `{', '.join(one.opts)}` | {meaning} |")
        parts.append("")
    return "\n".join(parts)


def _prose(text: str) -> str:
    return text.replace("\b\n", "").replace("``", "`").replace("<", "\\<")


def gallery() -> str:
    """Return the page of pictures, and the examples that can be run."""
    shots = sorted((HERE / "screenshots").glob("*.png"))
    parts = ["# Gallery\n", "Each drawn from the demo by `make screenshots`.\n"]
    for shot in shots:
        title = shot.stem.replace("_", " ")
        parts += [
            f"## {title[0].upper()}{title[1:]}\n",
            f"![{title}](../screenshots/{shot.name})\n",
        ]
    parts.append("## Examples\n")
    for example in sorted((HERE.parent / "examples").glob("*.py")):
        text = example.read_text(encoding="utf-8")
        first = text.split('"""')[1].split("\n")[0]
        parts += [f"### {first}\n", f"```python\n{text.rstrip()}\n```\n"]
    for book in sorted((HERE.parent / "examples").glob("*.ipynb")):
        for cell in json.loads(book.read_text(encoding="utf-8"))["cells"]:
            said = "".join(cell["source"])
            if cell["cell_type"] == "code":
                said = f"```python\n{said}\n```"
            parts.append(f"##{said}\n" if said.startswith("#") else f"{said}\n")
    return "\n".join(parts)


def main() -> int:
    """Write the pages that are made, and build the site."""
    MADE.mkdir(exist_ok=True)
    for name, made in (("api", reference), ("commands", commands), ("gallery", gallery)):
        (MADE / f"{name}.md").write_text(made(), encoding="utf-8")
    out = sys.argv[1] if len(sys.argv) > 1 else str(HERE / "_build")
    return subprocess.run(
        [sys.executable, "-m", "sphinx", "-W", "--keep-going", "-q", "-b", "html", str(HERE), out],
        check=False,
    ).returncode


if __name__ == "__main__":
    sys.exit(main())
