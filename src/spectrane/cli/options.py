"""What a command's options are: one typed record, from which parsing and help are made.

A record is a frozen dataclass whose fields are declared by ``option`` or ``argument``. It knows
which options were said on the command line and which were read, so that one that a path does not
read is an error and never silence.
"""

from __future__ import annotations

import dataclasses
import sys
from collections.abc import Callable, Iterable, Sequence
from itertools import pairwise
from typing import TYPE_CHECKING, Any, TypeVar

import click

from spectrane.cli import interrupts
from spectrane.cli.progress import progress_bar
from spectrane.cli.streams import streams
from spectrane.kernels.quiet import quiet
from spectrane.kernels.records import record
from spectrane.model.patience import LongJob, long_jobs_allowed
from spectrane.model.trials import trying

GROUPS = ("Input", "Place", "Look", "Layers", "Mask", "Map", "Corrections", "Result", "Output",
          "Running")  # fmt: skip
"""Headings of a command's help, in their order."""
_KIND = "parameter"

Record = TypeVar("Record", bound="Options")


def option(*names: str, group: str, help: str, default: Any = None, **given: Any) -> Any:
    """Declare a field of a record that is an option; ``given`` is as ``click.option`` takes it."""
    if given.get("is_flag"):
        default = False
    elif given.get("multiple"):
        default = ()
    made = {"param_decls": list(names), "help": help, "group": group, "default": default, **given}
    return dataclasses.field(default=default, metadata={_KIND: made})


def argument(metavar: str, *, many: bool = False, default: Any = None, **given: Any) -> Any:
    """Declare a field of a record that is said without a name: a file, or ``many``."""
    made = {"nargs": -1 if many else 1, "metavar": metavar, "default": default, **given}
    return dataclasses.field(default=() if many else default, metadata={_KIND: made})


@record(frozen=True)
class Options:
    """What every command takes."""

    quiet: bool = option("--quiet", "-q", group="Running", is_flag=True,
                         help="Say nothing but errors.")  # fmt: skip
    debug: bool = option("--debug", group="Running", is_flag=True,
                         help="Show where an error came from.")  # fmt: skip
    as_json: bool = option("--json", group="Output", is_flag=True,
                           help="Answer in JSON, one document: docs/command-line.md.")  # fmt: skip

    if not TYPE_CHECKING:  # a type checker shall see the fields alone

        def __getattribute__(self, name: str) -> Any:
            """Return a field, and note that it was read."""
            found = object.__getattribute__(self, name)
            if not name.startswith("_") and name in type(self).__dataclass_fields__:
                self.__dict__.setdefault("_read", set()).add(name)
            return found

    def read(self) -> frozenset[str]:
        """Return the names of the fields that were read so far."""
        return frozenset(self.__dict__.get("_read", ()))

    def said(self) -> frozenset[str]:
        """Return the names of the options that were said on the command line."""
        names: frozenset[str] = self.__dict__.get("_said", frozenset())
        return names

    def refuse(self, names: Iterable[str], why: str) -> None:
        """Raise click's UsageError where one of these options was said: it is not read here.

        ``names`` are the fields' names; ``why`` completes "is not used …".
        """
        for name in sorted(self.said() & set(names)):
            raise click.UsageError(f"{self.spelled(name)} is not used {why}")

    def refuse_others(self, names: Iterable[str], why: str) -> None:
        """Raise click's UsageError where an option was said that is none of these."""
        self.refuse(self.said() - {*names, *_ALWAYS}, why)

    def spelled(self, name: str) -> str:
        """Return an option as it is typed."""
        declared = type(self).__dataclass_fields__[name].metadata[_KIND]
        return str(max(declared["param_decls"], key=len))


_ALWAYS = ("output", "out_dir", "overwrite", "as_json", "quiet", "debug", "member", "damaged",
           "spacing", "choose", "dry_run")  # fmt: skip
"""Options that every path reads: what is opened, and where an answer goes."""


class Grouped(click.Option):
    """An option that stands under a heading of the help."""

    def __init__(self, *given: Any, group: str, **more: Any) -> None:
        super().__init__(*given, **more)
        self.group = group


class Command(click.Command):
    """A command made from a record: examples first, options under headings, nothing unread."""

    def __init__(
        self, name: str, record: type[Options], examples: Sequence[str], work: Callable[..., None],
        ending: Callable[[], str] | None,
    ) -> None:  # fmt: skip
        super().__init__(name, help=work.__doc__, params=_parameters(record), callback=self._run)
        self.record, self.examples, self.work, self.ending = record, examples, work, ending

    def _run(self, **given: Any) -> None:
        context = click.get_current_context()
        made = self.record(**given)
        unsaid = click.core.ParameterSource.DEFAULT
        made.__dict__["_said"] = frozenset(
            param.name for param in self.params if isinstance(param, Grouped) and param.name
            and context.get_parameter_source(param.name) not in (None, unsaid)
        )  # fmt: skip
        interrupts.working()
        with streams(made, self.name or ""):
            self._at_work(made)
        _ = (made.quiet, made.debug)
        made.refuse(made.said() - made.read(), "here: what was made is as without it")

    def _at_work(self, made: Options) -> None:
        """Do the work; what would take hours only where somebody is there who agrees."""
        done = quiet(self.work)

        def work(options: Options) -> None:
            with progress_bar(self.name or "", options.quiet):
                done(options)

        if getattr(made, "dry_run", False):
            with trying():
                work(made)
            return
        try:
            work(made)
        except LongJob as error:
            alone = not (sys.stdin.isatty() and sys.stderr.isatty())
            if alone or getattr(made, "as_json", False):
                raise
            click.confirm(f"{error}. Begin it all the same?", abort=True, err=True)
            with long_jobs_allowed():
                work(made)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Parse; ``--colormap list`` answers at once, whatever else is said."""
        if "--colormap=list" in args or ("--colormap", "list") in pairwise(args):
            said, _, _ = self.make_parser(ctx).parse_args(args=list(args))
            if said.get("colormap") == "list":
                from spectrane.cli.colormap_list import tell_colormaps

                tell_colormaps(said)
                ctx.exit()
        return super().parse_args(ctx, args)

    def format_help_text(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write what the command does, then its examples."""
        super().format_help_text(ctx, formatter)
        formatter.write_paragraph()
        formatter.write("Examples:\n")
        for line in self.examples:
            formatter.write(f"  spectrane {line}\n")

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options under their headings."""
        for group in GROUPS:
            own = [
                param
                for param in self.params
                if isinstance(param, Grouped) and param.group == group
            ]
            own.sort(key=lambda one: one.name in Options.__dataclass_fields__)  # those come last
            rows = [row for one in own if (row := one.get_help_record(ctx)) is not None]
            if group == "Running":
                rows.append(("-h, --help", "Show this and exit."))
            if rows:
                with formatter.section(group):
                    formatter.write_dl(rows)
        if self.ending is not None:
            formatter.write(f"\n{self.ending()}\n")


def command_of(
    name: str, record: type[Record], *, examples: Sequence[str],
    ending: Callable[[], str] | None = None, kind: type[Command] = Command,
) -> Callable[[Callable[[Record], None]], Command]:  # fmt: skip
    """Make a command of a function that takes one record; its docstring is the help."""
    return lambda work: kind(name, record, examples, work, ending)


def _parameters(record: type[Options]) -> list[click.Parameter]:
    """Return the parameters a record declares; later declarations of a field replace earlier."""
    made: list[click.Parameter] = []
    for field in dataclasses.fields(record):
        given = dict(field.metadata[_KIND])
        if "group" not in given:
            missing = given["default"] is None and given["nargs"] != -1
            made.append(click.Argument([field.name], **{"required": missing, **given}))
            continue
        names = [*given.pop("param_decls"), field.name]
        plain = given.get("is_flag") or given.get("multiple") or given["default"] is None
        made.append(Grouped(names, **{"show_default": not plain, **given}))
    return made
