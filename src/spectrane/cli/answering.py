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
from spectrane.cli.progress import out_of_the_way
from spectrane.cli.streams import arrived, as_told, is_sent_on, send_now
from spectrane.model.printing import printable, printable_line, whole_text
from spectrane.model.trials import now_trying


class Answer:
    """Takes what a command has to say while it works."""

    def __init__(self, options: Options) -> None:
        self.quiet = options.quiet or options.as_json
        self._results: list[dict[str, Any]] = []
        self._held: list[list[str]] = []
        self._warnings: list[str] = []

    def add(self, facts: Mapping[str, Any], *lines: str) -> None:
        """Take one result: its facts for JSON, and its lines for a person."""
        trial = now_trying()
        if trial is not None and facts.get("output"):
            planned = trial.planned.get(os.path.abspath(facts["output"]), {})
            facts = {**facts, "dry_run": True}
            if planned:
                facts |= {name: planned[name] for name in ("seconds", "bounds") if name in planned}
                lines = (*lines, *_reckoned(planned, facts.get("crs")))
        self._results.append(dict(facts))
        self.say(*lines)

    def say(self, *lines: str) -> None:
        """Tell a person something that stands in the facts already."""
        if self.quiet:
            return
        self._held.append([printable_line(as_told(line)) for line in lines])
        if not is_sent_on():
            self.tell()

    def tell(self) -> None:
        """Tell a person what was held until it was sent; not of what did not arrive."""
        out_of_the_way()
        for lines in self._held:
            for line in lines if arrived(*lines) else ():
                click.echo(line)
        self._held = []

    def warn(self, message: Warning | str, *_: Any, **__: Any) -> None:
        """Take a warning, each once; a person sees it on stderr."""
        text = printable_line(as_told(" ".join(str(message).split())))
        if text not in self._warnings:
            self._warnings.append(text)
            if not self.quiet:
                out_of_the_way()
                click.echo(f"warning: {text}", err=True)

    def end(self, command: str | None) -> None:
        """Tell the rest: as the JSON document of a command, or what a person has not heard yet."""
        if command is not None:
            click.echo(self.document(command))
        else:
            self.tell()

    def document(self, command: str) -> str:
        """Return the JSON document, checked against its schema."""
        from spectrane.cli.documents import document

        there = [one for one in json_value(self._results) if arrived(str(one.get("output", "")))]
        return document(command, there, json_value(self._warnings))


def _reckoned(planned: Mapping[str, Any], crs: str | None) -> list[str]:
    """Return where what a dry run tells of would lie, and how long writing it takes."""
    sides = ", ".join(f"{side:.10g}" for side in planned.get("bounds", ()))
    where = [f"  covers ({sides})" + (f" in {crs}" if crs else "")] if sides else []
    return [*where, f"  about {planned['seconds']:.3g} s, from a sample"]


@contextlib.contextmanager
def answering(options: Options) -> Iterator[Answer]:
    """Yield what takes a command's answers; JSON is written at the end, whatever ends it.

    Where work fails, the document holds what was done and the error, which is raised all the same.
    """
    from spectrane.cli.entry import one_line

    answer = Answer(options)
    if now_trying() is not None:
        answer.say("dry run: nothing is written; this would be:")
    name = click.get_current_context().command.name or ""
    with warnings.catch_warnings():
        warnings.simplefilter("always")
        warnings.showwarning = answer.warn
        try:
            try:
                yield answer
            except SystemExit:  # some of many files failed, and are among the results
                send_now()
                answer.end(name if options.as_json else None)
                raise
            send_now()
        except click.UsageError:
            raise
        except Exception as error:
            answer.add({"error": one_line(error)})
            answer.end(name if options.as_json else None)
            raise
    answer.end(name if options.as_json else None)


def for_each(files: Sequence[str], action: Callable[[str], None], answer: Answer) -> None:
    """Do something with every file; one that fails does not stop the rest, and is told at the end.

    A single file's error is raised as it is. With several, exits with 1 where one failed.
    """
    failures = []
    for file in files:
        try:
            action(file)
        except (click.UsageError, BrokenPipeError):  # nobody reads on
            raise
        except Exception as error:
            if len(files) == 1:
                raise
            from spectrane.cli.entry import one_line

            failures.append(one_line(error))
            answer.add({"input": file, "error": failures[-1]})
    for failure in failures:
        click.echo(f"error: {as_told(failure)}", err=True)
    if failures:
        raise SystemExit(1)


def json_value(value: Any) -> Any:
    """Bring a value to what JSON can hold: NaN becomes null, infinities and bytes text."""
    if isinstance(value, Mapping):
        return {str(key): json_value(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [json_value(item) for item in value]
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, str):
        return whole_text(as_told(value))
    if isinstance(value, float) and not math.isfinite(value):
        return None if math.isnan(value) else ("inf" if value > 0 else "-inf")
    return value


def records(table: Any) -> list[dict[str, Any]]:
    """Return a DataFrame's rows as plain mappings; what is missing is None."""
    import json

    rows: list[dict[str, Any]] = json.loads(table.to_json(orient="records"))
    return rows


def table_text(table: Any) -> str:
    """Return a DataFrame as text; what is missing is left empty, notes stand where there are."""
    if "note" in table and table["note"].isna().all():
        table = table.drop(columns="note")
    shown = table.to_string(index=False, na_rep="", float_format="{:.6g}".format)
    return str(printable(shown))


def rows_text(rows: Sequence[Mapping[str, Any]]) -> list[str]:
    """Return rows as aligned lines, as ``table_text`` does, without a DataFrame.

    >>> rows_text([{"band": "red", "stored": 7, "physical": 0.25, "note": None}])
    ['band stored physical', ' red      7     0.25']
    """
    if not rows:
        return []
    names = [name for name in rows[0] if name != "note" or any(row[name] for row in rows)]
    cells = [[printable_line(_cell(row.get(name))) for name in names] for row in rows]
    wide = [max(len(name), *(len(line[k]) for line in cells)) for k, name in enumerate(names)]
    return [" ".join(text.rjust(width) for text, width in zip(line, wide, strict=True))
            for line in [names, *cells]]  # fmt: skip


def _cell(value: Any) -> str:
    if value is None or (isinstance(value, float) and math.isnan(value)):
        return ""
    return f"{value:.6g}" if isinstance(value, float) else str(value)
