"""What several commands share: options, values, warnings, progress."""

from __future__ import annotations

import contextlib
import inspect
import re
import sys
import threading
import warnings
from collections.abc import Callable, Iterable, Iterator, Sequence
from typing import TYPE_CHECKING, Any, TypeVar

import click

from spectrane.engine.damage import DAMAGED
from spectrane.model.resampling import SPACINGS

if TYPE_CHECKING:
    ParamType = click.ParamType[Any]
else:  # what is only generic for type checkers in some versions
    ParamType = click.ParamType

Command = TypeVar("Command", bound=Callable[..., Any])
_UNSAID = click.core.ParameterSource.DEFAULT
_ALWAYS = ("output", "overwrite", "as_json", "quiet", "debug", "help")
"""Options that every path reads."""
_PATIENCE = 1.0
"""Seconds before a person is told that something is going on."""


def shared_options(function: Command) -> Command:
    """Add ``--quiet`` and ``--debug``."""
    quiet = click.option("--quiet", "-q", is_flag=True, help="Say nothing but errors.")
    debug = click.option(
        "--debug", is_flag=True, expose_value=False, help="Show where an error came from."
    )
    return quiet(debug(function))


def refuse(names: Iterable[str], why: str) -> None:
    """Raise click's UsageError where one of these options was said: it would not be read here.

    ``names`` are the parameters' names; ``why`` completes "is not used …".
    """
    context, wanted = click.get_current_context(), set(names)
    for parameter in context.command.params:
        said = context.get_parameter_source(parameter.name or "")
        if parameter.name in wanted and said not in (None, _UNSAID):
            spelled = max(parameter.opts, key=len)
            raise click.UsageError(f"{spelled} is not used {why}")


def refuse_others(names: Iterable[str], why: str) -> None:
    """Raise click's UsageError where an option was said that is none of these: see ``refuse``."""
    read = {*names, *_ALWAYS}
    params = click.get_current_context().command.params
    refuse([one.name or "" for one in params if one.name not in read
            and isinstance(one, click.Option)], why)  # fmt: skip


def force_option(function: Command) -> Command:
    """Add ``--force``."""
    return click.option("--force", is_flag=True,
                        help="Mix numbers that are names of classes or flags all the same.")(
        function)  # fmt: skip


def damaged_option(function: Command) -> Command:
    """Add ``--damaged``."""
    return click.option(
        "--damaged", type=click.Choice(DAMAGED), default="error",
        help="Damaged data are an error, or the rest is kept and they are invalid.",
    )(function)  # fmt: skip


def opening_options(function: Command) -> Command:
    """Add ``--member``, ``--spacing``, ``--damaged``: which raster of a file, read how."""
    member = click.option(
        "--member", help="Which raster of the file or folder: its number from 1, or its name."
    )
    spacing = click.option(
        "--spacing", type=click.Choice(SPACINGS),
        help="Of unevenly spaced slices: even ones by interpolation, or as if they were even.",
    )  # fmt: skip
    return member(spacing(damaged_option(function)))


def opening_of(options: dict[str, Any]) -> dict[str, Any]:
    """Return what ``opening_options`` say as ``spectrane.open`` takes it."""
    spacing = options["spacing"]
    given = {"member": options["member"], "damaged": options["damaged"]}
    return given if spacing is None else given | {"spacing": spacing}


def examples(*lines: str) -> Callable[[Command], Command]:
    """Add examples to a command's help, each as it is typed."""

    def added(function: Command) -> Command:
        shown = "".join(f"  spectrane {line}\n" for line in lines)
        # \b keeps Click from joining the lines.
        said = inspect.cleandoc(function.__doc__ or "")
        function.__doc__ = f"{said}\n\n\b\nExamples:\n{shown}"
        return function

    return added


def for_each(
    files: Sequence[str], action: Callable[[str], None], after: Callable[[], None] = lambda: None
) -> None:
    """Do something with every file; one that fails does not stop the rest, and is told at the end.

    A single file's error is raised as it is. ``after`` runs when a file is done.
    """
    failures = []
    for file in files:
        try:
            action(file)
            after()
        except Exception as error:
            if len(files) == 1:
                raise
            from spectrane.cli.entry import one_line

            failures.append(one_line(error))
    for failure in failures:
        click.echo(f"error: {failure}", err=True)
    if failures:
        raise SystemExit(1)


class Size(ParamType):
    """``COLUMNSxROWS``, given as (rows, columns)."""

    name = "COLUMNSxROWS"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[int, int]:
        """Read a size such as 1280x800."""
        if isinstance(value, tuple):
            return value
        found = re.fullmatch(r"([1-9]\d{0,5})[x×X]([1-9]\d{0,5})", value.strip())
        if not found:
            self.fail(f"{value!r} is not COLUMNSxROWS, such as 1280x800.", param, ctx)
        return int(found[2]), int(found[1])


def counted(number: int, what: str) -> str:
    """Return how many there are, in words.

    >>> counted(1, "band"), counted(8, "band")
    ('1 band', '8 bands')
    """
    return f"{number} {what}" + ("" if number == 1 else "s")


def print_table(table: Any) -> None:
    """Print a DataFrame without its index; what is missing is left empty, notes where there are."""
    from spectrane.analysis.description import printable

    if "note" in table and table["note"].isna().all():
        table = table.drop(columns="note")
    click.echo(printable(table.to_string(index=False, na_rep="", float_format="{:.6g}".format)))


class Numbers(ParamType):
    """A fixed number of numbers with commas between them."""

    def __init__(self, count: int, name: str, most: int | None = None) -> None:
        self.counts, self.name = range(count, (most or count) + 1), name

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float, ...]:
        """Read numbers such as 1,2.5."""
        if isinstance(value, tuple):
            return value
        try:
            numbers = tuple(float(part) for part in value.split(","))
        except ValueError:
            numbers = ()
        if len(numbers) not in self.counts:
            wanted = " or ".join(map(str, self.counts))
            self.fail(f"{value!r} is not {self.name}: {wanted} numbers.", param, ctx)
        return numbers


class NoData(ParamType):
    """``none``, or numbers and LOW..HIGH ranges with commas between them."""

    name = "VALUE[,LOW..HIGH]"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        """Read no-data such as 0 or 0,250..255."""
        if not isinstance(value, str):
            return value
        if value.strip().lower() == "none":
            return []
        try:
            return [self._item(part) for part in value.split(",")]
        except ValueError:
            self.fail(f"{value!r} is not none, numbers, or LOW..HIGH ranges.", param, ctx)

    def _item(self, text: str) -> Any:
        if ".." in text:
            low, _, high = text.partition("..")
            return (_number(low), _number(high))
        return _number(text)


def _number(text: str) -> int | float:
    try:
        return int(text)
    except ValueError:
        return float(text)


@contextlib.contextmanager
def told_warnings(quiet: bool) -> Iterator[list[str]]:
    """Show warnings as single lines on stderr, each once; give them as a list as well."""
    from spectrane.analysis.description import printable

    told: list[str] = []

    def show(message: Warning | str, *_: Any, **__: Any) -> None:
        text = printable(" ".join(str(message).split()))
        if text not in told:
            told.append(text)
            if not quiet:
                click.echo(f"warning: {text}", err=True)

    with warnings.catch_warnings():
        warnings.simplefilter("always")
        warnings.showwarning = show
        yield told


@contextlib.contextmanager
def progress_bar(label: str, quiet: bool) -> Iterator[Callable[[int, int], None]]:
    """Yield a progress callback; a bar appears on a terminal when work takes over a second."""
    bar = _Bar(label) if sys.stderr.isatty() and not quiet else None
    try:
        yield bar.update if bar else lambda done, total: None
    finally:
        if bar:
            bar.stop()


class _Bar:
    """A rich progress bar that is not even imported before it is needed."""

    def __init__(self, label: str) -> None:
        self.label = label
        self._lock = threading.Lock()
        self._shown: Any = None
        self._task: Any = None
        self._last: tuple[int, int] | None = None
        self._timer = threading.Timer(_PATIENCE, self._show)
        self._timer.daemon = True
        self._timer.start()

    def _show(self) -> None:
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn, TimeElapsedColumn

        with self._lock:
            self._shown = Progress(
                TextColumn("{task.description}"), BarColumn(),
                TextColumn("{task.percentage:.0f} %"),
                TimeElapsedColumn(), console=Console(stderr=True), transient=True,
            )  # fmt: skip
            self._shown.start()
            self._task = self._shown.add_task(self.label, total=None)
        if self._last:
            self.update(*self._last)

    def update(self, done: int, total: int) -> None:
        """Take how much is done."""
        self._last = (done, total)
        if self._shown is not None and self._task is not None:
            self._shown.update(self._task, completed=done, total=total)

    def stop(self) -> None:
        """Clear the bar away."""
        self._timer.cancel()
        with self._lock:
            if self._shown is not None:
                self._shown.stop()
