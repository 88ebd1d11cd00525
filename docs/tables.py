"""Tables of the documents that are made from the registries: ``make docs`` writes them anew."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

import click

from spectrane.cli import entry
from spectrane.cli.documents import json_schema
from spectrane.cli.options import Grouped
from spectrane.cli.results import RESULTS
from spectrane.model.curves import Curve
from spectrane.model.limits import Limits
from spectrane.model.rules import rules_table

HERE = Path(__file__).parent
SCHEMA = "answers.schema.json"
TABLES = {
    "command-line.md": {"words": lambda: words(), "results": lambda: results()},
    "looks.md": {"limits": lambda: rules_table(Limits), "curves": lambda: rules_table(Curve)},
}


def filled(name: str, text: str) -> str:
    """Return a document's text with its tables as the registries have them."""
    for mark, made in TABLES[name].items():
        block = f"<!-- {mark} -->\n{made()}\n<!-- end of {mark} -->"
        pattern = f"<!-- {mark} -->.*<!-- end of {mark} -->"
        text = re.sub(pattern, lambda _, block=block: block, text, flags=re.DOTALL)
    return text


def words() -> str:
    """Return every option with its meaning and the commands that have it."""
    found: dict[tuple[str, str], list[str]] = {}
    context = click.Context(entry.commands)
    for name in entry.COMMANDS:
        command = entry.commands.get_command(context, name)
        assert command is not None
        for one in command.params:
            if isinstance(one, Grouped) and one.group != "Running":
                meaning = "what is written" if one.name == "output" else one.help or ""
                found.setdefault((", ".join(one.opts), meaning), []).append(name)
    lines = ["| option | meaning | commands |", "| --- | --- | --- |"]
    for (word, meaning), where in sorted(found.items(), key=lambda one: one[0][0].lstrip("-")):
        commands = "all" if len(where) == len(entry.COMMANDS) else ", ".join(where)
        lines.append(f"| `{word}` | {meaning} | {commands} |")
    return "\n".join(lines)


def results() -> str:
    """Return what each command's results hold, from the schema."""
    lines = ["| command | a result is | with |", "| --- | --- | --- |"]
    for name, kinds in RESULTS.items():
        for kind in kinds:
            what = (kind.__doc__ or "").splitlines()[0]
            fields = f"`{' '.join(kind.model_fields)}`" if kind.model_fields else "its columns"
            lines.append(f"| {name} | {what} | {fields} |")
    return "\n".join(lines)


def schema() -> str:
    """Return the JSON Schema of what every command answers."""
    return json.dumps(json_schema(), indent=1, ensure_ascii=False) + "\n"


def main() -> int:
    """Write every table; with ``--check`` only tell whether a document is behind."""
    behind = []
    for name in (*TABLES, SCHEMA):
        path = HERE / name
        before = path.read_text(encoding="utf-8") if path.exists() else ""
        after = schema() if name == SCHEMA else filled(name, before)
        if after != before:
            behind.append(name)
            if "--check" not in sys.argv:
                path.write_text(after, encoding="utf-8")
    print(f"behind: {', '.join(behind)}" if behind else "all tables are as the registries say")
    return int("--check" in sys.argv and bool(behind))


if __name__ == "__main__":
    sys.exit(main())
