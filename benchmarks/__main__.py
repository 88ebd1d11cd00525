"""Measure, print the table, and write it: ``python -m benchmarks [--write FILE] [--large DIR]``."""

from __future__ import annotations

import argparse
import platform
import re
import sys
import tempfile
from pathlib import Path

from benchmarks import exchange, files, kernels, together, viewing, volumes
from benchmarks.contest import Row, two_cores


def main() -> int:
    """Run every benchmark; the exit status tells whether every limit was kept."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--write", type=Path, help="put the table into this document")
    parser.add_argument("--large", type=Path, help="keep large files here (default: thrown away)")
    parser.add_argument(
        "--only",
        choices=["kernels", "files", "together", "volumes", "viewing", "exchange"],
        help="measure a part",
    )
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as temporary:
        folder = options.large or Path(temporary)
        folder.mkdir(parents=True, exist_ok=True)
        found: list[Row] = []
        parts = (("kernels", kernels.rows()), ("together", together.rows(folder)),
                 ("files", files.rows(folder)), ("volumes", volumes.rows(folder)),
                 ("viewing", viewing.rows(folder)),
                 ("exchange", exchange.rows(folder)))  # fmt: skip
        for name, rows in parts:
            if options.only in (None, name):
                for row in rows:
                    print(line(row), flush=True)
                    found.append(row)
    spinning = two_cores()
    print(f"two spinning threads take {spinning:.2f} of one's time")
    if options.write:
        write(options.write, found, spinning, whole=options.only is None)
    return int(not all(row.met for row in found))


def line(row: Row) -> str:
    """Return a row of a Markdown table."""
    mark = "" if row.met else " (missed)"
    return (
        f"| {row.work} | {row.best:.3g} x {row.unit}{mark} | {row.median:.3g} | "
        f"{row.limit:.3g} | {row.seconds * 1000:.0f} ms |"
    )


def write(path: Path, rows: list[Row], spinning: float, *, whole: bool) -> None:
    """Put the table between the document's two marks; rows of a part beside those of others."""
    text = path.read_text()
    machine = (
        f"Python {platform.python_version()}, {platform.machine()}, two cores; after the run two "
        f"spinning threads took {spinning:.2f} of one's time (above 1.3 rows of two threads say "
        "little)."
    )
    before = re.findall(r"^\| (.*?) \| .* ms \|$", text, flags=re.MULTILINE)
    lines = dict(zip(before, re.findall(r"^\| .* ms \|$", text, flags=re.MULTILINE), strict=True))
    lines = {} if whole else lines  # a part replaces its own rows
    lines |= {row.work: line(row) for row in rows}
    head = "| work | best ratio | median ratio | limit | best time |"
    table = "\n".join([head, "| --- | --- | --- | --- | --- |", *lines.values()])
    block = f"<!-- table -->\n{machine}\n\n{table}\n<!-- end -->"
    path.write_text(re.sub(r"<!-- table -->.*<!-- end -->", lambda _: block, text, flags=re.DOTALL))


if __name__ == "__main__":
    sys.exit(main())
