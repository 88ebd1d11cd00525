"""What a command answers: lines for a person or one JSON document, and its warnings."""

from __future__ import annotations

import contextlib
import math
import os
import warnings
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any

import click

from spectrane.cli.options import Options

SCHEMA = 1
"""The number of the JSON document's form; it changes when a field is taken away or altered."""


class Answer:
    """Takes what a command has to say while it works."""

    def __init__(self, options: Options) -> None:
        self.quiet = options.quiet or options.as_json
        self._results: list[dict[str, Any]] = []
        self._warnings: list[str] = []

    def add(self, facts: Mapping[str, Any], *lines: str) -> None:
        """Take one result: its facts for JSON, and its lines for a person."""
        self._results.append(dict(facts))
        self.say(*lines)

    def say(self, *lines: str) -> None:
        """Tell a person something that stands in the facts already."""
        if not self.quiet:
            for line in lines:
                click.echo(line)

    def warn(self, message: Warning | str, *_: Any, **__: Any) -> None:
        """Take a warning, each once; a person sees it on stderr."""
        from spectrane.analysis.description import printable

        text = printable(" ".join(str(message).split()))
        if text not in self._warnings:
            self._warnings.append(text)
            if not self.quiet:
                click.echo(f"warning: {text}", err=True)

    def document(self, command: str) -> str:
        """Return the JSON document, checked against its schema."""
        from spectrane.cli.results import document

        return document(SCHEMA, command, plain(self._results), self._warnings)


@contextlib.contextmanager
def answering(options: Options) -> Iterator[Answer]:
    """Yield what takes a command's answers; JSON is written at the end, whatever ends it.

    Where work fails, the document holds what was done and the error, which is raised all the same.
    """
    from spectrane.cli.entry import one_line

    answer = Answer(options)
    name = click.get_current_context().command.name or ""
    with warnings.catch_warnings():
        warnings.simplefilter("always")
        warnings.showwarning = answer.warn
        try:
            yield answer
        except click.UsageError:
            raise
        except Exception as error:
            if options.as_json:
                answer.add({"error": one_line(error)})
                click.echo(answer.document(name))
            raise
        except SystemExit:  # some of many files failed, and are among the results
            if options.as_json:
                click.echo(answer.document(name))
            raise
    if options.as_json:
        click.echo(answer.document(name))


def for_each(files: Sequence[str], action: Callable[[str], None], answer: Answer) -> None:
    """Do something with every file; one that fails does not stop the rest, and is told at the end.

    A single file's error is raised as it is. With several, exits with 1 where one failed.
    """
    failures = []
    for file in files:
        try:
            action(file)
        except click.UsageError:
            raise
        except Exception as error:
            if len(files) == 1:
                raise
            from spectrane.cli.entry import one_line

            failures.append(one_line(error))
            answer.add({"input": file, "error": failures[-1]})
    for failure in failures:
        click.echo(f"error: {failure}", err=True)
    if failures:
        raise SystemExit(1)


def counted(number: int, what: str) -> str:
    """Return how many there are, in words.

    >>> counted(1, "band"), counted(8, "band")
    ('1 band', '8 bands')
    """
    return f"{number} {what}" + ("" if number == 1 else "s")


def plain(value: Any) -> Any:
    """Bring a value to what JSON can hold: NaN becomes null, infinities and bytes text."""
    if isinstance(value, Mapping):
        return {str(key): plain(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [plain(item) for item in value]
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, float) and not math.isfinite(value):
        return None if math.isnan(value) else ("inf" if value > 0 else "-inf")
    return value


def records(table: Any) -> list[dict[str, Any]]:
    """Return a DataFrame's rows as plain mappings; what is missing is None."""
    import json

    found: list[dict[str, Any]] = json.loads(table.to_json(orient="records"))
    return found


def table_text(table: Any) -> str:
    """Return a DataFrame as text; what is missing is left empty, notes stand where there are."""
    from spectrane.analysis.description import printable

    if "note" in table and table["note"].isna().all():
        table = table.drop(columns="note")
    shown = table.to_string(index=False, na_rep="", float_format="{:.6g}".format)
    return str(printable(shown))


def file_facts(path: str) -> dict[str, Any]:
    """Return where a file, or a folder, was written and its size in bytes."""
    return {"output": path, "bytes": _bytes(path)}


def _bytes(path: str) -> int:
    if os.path.isdir(path):
        inside = (os.path.join(at, name) for at, _, names in os.walk(path) for name in names)
        return sum(map(os.path.getsize, inside))
    return os.path.getsize(path)


def size_text(path: str) -> str:
    """Return the size of what was written, for a person."""
    size = _bytes(path)
    if size < 1000:
        return f"{size} bytes"
    step = min(3, (len(str(size)) - 1) // 3)
    return f"{size / 1000**step:.3g} {('kB', 'MB', 'GB')[step - 1]}"


def data_facts(path: str) -> dict[str, Any]:
    """Return what a data file that was written holds, as a reader of it finds it."""
    from contextlib import closing

    from spectrane.formats.registry import open_source

    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # what there is to say was said while it was written
        with closing(open_source(path)) as source:
            bands = [
                {
                    "name": one.name,
                    "unit": one.unit,
                    "scale": one.scale,
                    "offset": one.offset,
                    "nodata": one.nodata,
                }
                for one in source.bands
            ]
            return file_facts(path) | {
                "shape": [len(source.bands), *source.shape], "type": source.dtype.name,
                "mask": bool(source.has_mask), "bands": bands, "crs": source.grid.crs_text,
            }  # fmt: skip


def data_line(facts: Mapping[str, Any]) -> str:
    """Say what ``data_facts`` found, in one line."""
    count, *sizes = facts["shape"]
    deep = len(sizes) == 3
    size = " x ".join(map(str, sizes if deep else sizes[::-1]))
    nodata = {str(one["nodata"]) for one in facts["bands"] if one["nodata"] is not None}
    said = [size, counted(count, "frame" if deep else "band"), facts["type"]]
    said += [f"no-data {', '.join(sorted(nodata))}"] if nodata else []
    said += ["with a mask"] if facts["mask"] else []
    return f"{facts['output']}: {', '.join(said)}, {size_text(facts['output'])}"
