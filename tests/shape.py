"""Hold the shape of the code: share of tests, length of functions and files, no circles.

Run by ``make check``; prints what it finds and fails where a bound is broken.
"""

from __future__ import annotations

import ast
import graphlib
import statistics
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
LEAST_TESTS, MOST_TESTS = 0.25, 0.333
MEDIAN, NINTH, LONGEST = 8, 22, 60
LONGEST_FILE = 450


def python_files() -> list[Path]:
    listed = subprocess.run(
        ["git", "ls-files", "--cached", "--others", "--exclude-standard", "*.py"],
        cwd=ROOT, capture_output=True, text=True, check=True,
    ).stdout.split()  # fmt: skip
    return [ROOT / name for name in listed if (ROOT / name).is_file()]


def code_lines(node: ast.AST, lines: list[str]) -> int:
    """Count a function's lines without docstring, comments and blanks."""
    body = node.body  # type: ignore[attr-defined]
    skipped: set[int] = set()
    if isinstance(body[0], ast.Expr) and isinstance(body[0].value, ast.Constant):
        skipped = set(range(body[0].lineno, body[0].end_lineno + 1))
    return sum(
        1
        for number in range(node.lineno, node.end_lineno + 1)  # type: ignore[attr-defined]
        if number not in skipped
        and lines[number - 1].strip()
        and not lines[number - 1].strip().startswith("#")
    )


def imports(path: Path, modules: dict[str, Path]) -> set[str]:
    """Return the modules of ours that a file imports anywhere, also inside functions."""
    found = set()
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and node.module:
            for name in node.names:
                inner = f"{node.module}.{name.name}"
                found.add(inner if inner in modules else node.module)
        elif isinstance(node, ast.Import):
            found |= {name.name for name in node.names}
    return found & modules.keys()


def circles() -> list[str]:
    """Return the modules that import one another round about."""
    source = ROOT / "src"
    modules = {".".join(path.relative_to(source).with_suffix("").parts): path
               for path in source.rglob("*.py") if path.name != "__init__.py"}  # fmt: skip
    sorter = graphlib.TopologicalSorter(
        {name: imports(path, modules) - {name} for name, path in modules.items()}
    )
    try:
        sorter.prepare()
    except graphlib.CycleError as error:
        return [f"a circle of imports: {' -> '.join(error.args[1])}"]
    return []


SHARED = {
    "command": "each command's module has one",
    "profile": "numbers by band, and sp.figures.profile, their chart",
    "survivors": "numbers by threshold, and sp.figures.survivors, their chart",
}
"""Names that stand more than once at the top of a module, and why."""
WORDS = "vocabulary.py"
"""Where names are those of options."""


def repeated() -> list[str]:
    """Return the public names that are given twice in the package."""
    places: dict[str, list[str]] = {}
    for path in sorted((ROOT / "src").rglob("*.py")):
        if path.name == WORDS:
            continue
        for node in ast.parse(path.read_text()).body:
            if isinstance(node, ast.FunctionDef | ast.ClassDef) and not (
                node.name.startswith("_") or "overload" in map(ast.unparse, node.decorator_list)
            ):
                places.setdefault(node.name, []).append(str(path.relative_to(ROOT)))
    return [f"{name} is defined in {', '.join(where)}" for name, where in places.items()
            if len(where) > 1 and name not in SHARED]  # fmt: skip


def main() -> int:
    files = python_files()
    lengths = {path: path.read_text().splitlines() for path in files}
    tests = sum(len(text) for path, text in lengths.items() if "tests" in path.parts)
    total = sum(map(len, lengths.values()))
    spans = {}
    for path, text in lengths.items():
        if "src" in path.parts:
            for node in ast.walk(ast.parse("\n".join(text))):
                if isinstance(node, ast.FunctionDef):
                    spans[f"{path.name}:{node.lineno} {node.name}"] = code_lines(node, text)
    ordered = sorted(spans.values())
    median, ninth = statistics.median(ordered), ordered[int(len(ordered) * 0.9)]
    print(f"tests {tests} of {total} lines ({tests / total:.1%}); "
          f"functions: median {median}, nine in ten {ninth}, longest {ordered[-1]}")  # fmt: skip
    problems = [f"{name}: {length} lines of code" for name, length in spans.items()
                if length > LONGEST]  # fmt: skip
    problems += [f"{p.relative_to(ROOT)}: {len(text)} lines" for p, text in lengths.items()
                 if len(text) > LONGEST_FILE]  # fmt: skip
    if not LEAST_TESTS <= tests / total <= MOST_TESTS:
        problems.append(f"tests are {tests / total:.1%} of all Python lines; wanted 25 to 33")
    problems += circles() + repeated()
    if median > MEDIAN or ninth > NINTH:
        problems.append(f"functions too long: wanted median {MEDIAN}, nine in ten {NINTH}")
    for problem in problems:
        print("  " + problem)
    return bool(problems)


if __name__ == "__main__":
    sys.exit(main())
