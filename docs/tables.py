"""Tables of the documents that are made from the registries: ``make docs`` writes them anew."""

from __future__ import annotations

import json
import re
import sys
from pathlib import Path

from spectrane.cli.results import json_schema
from spectrane.model.curves import Curve
from spectrane.model.limits import Limits
from spectrane.model.rules import table

HERE = Path(__file__).parent
SCHEMA = "answers.schema.json"
TABLES = {"looks.md": {"limits": lambda: table(Limits), "curves": lambda: table(Curve)}}


def filled(name: str, text: str) -> str:
    """Return a document's text with its tables as the registries have them."""
    for mark, made in TABLES[name].items():
        block = f"<!-- {mark} -->\n{made()}\n<!-- end of {mark} -->"
        pattern = f"<!-- {mark} -->.*<!-- end of {mark} -->"
        text = re.sub(pattern, lambda _, block=block: block, text, flags=re.DOTALL)
    return text


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
