"""Tables of the documents that are made from the registries: ``make docs`` writes them anew."""

from __future__ import annotations

import re
import sys
from pathlib import Path

from spectrane.model.curves import Curve
from spectrane.model.limits import Limits
from spectrane.model.rules import table

HERE = Path(__file__).parent
TABLES = {"looks.md": {"limits": lambda: table(Limits), "curves": lambda: table(Curve)}}


def filled(name: str, text: str) -> str:
    """Return a document's text with its tables as the registries have them."""
    for mark, made in TABLES[name].items():
        block = f"<!-- {mark} -->\n{made()}\n<!-- end of {mark} -->"
        pattern = f"<!-- {mark} -->.*<!-- end of {mark} -->"
        text = re.sub(pattern, lambda _, block=block: block, text, flags=re.DOTALL)
    return text


def main() -> int:
    """Write every table; with ``--check`` only tell whether a document is behind."""
    behind = []
    for name in TABLES:
        path = HERE / name
        before = path.read_text(encoding="utf-8")
        after = filled(name, before)
        if after != before:
            behind.append(name)
            if "--check" not in sys.argv:
                path.write_text(after, encoding="utf-8")
    print(f"behind: {', '.join(behind)}" if behind else "all tables are as the registries say")
    return int("--check" in sys.argv and bool(behind))


if __name__ == "__main__":
    sys.exit(main())
