"""Rules that a person names with numbers, such as ``percentile:2,98``: one registry per kind.

A rule is a small frozen object. Its class says everything there is to say of it once: its name, its
numbers with their ranges and defaults, a line of help, and what it does. Reading it from text,
the errors, the help of the options and the tables of the documents come from there.
"""

from __future__ import annotations

import dataclasses
import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, ClassVar, Self

from spectrane.model.errors import LookError, nearest


def number(
    default: Any = dataclasses.MISSING, *, least: float = -math.inf, most: float = math.inf,
    above: float = -math.inf,
) -> Any:  # fmt: skip
    """Return a field for one of a rule's numbers: from ``least`` to ``most``, or ``above``.

    With a default the number may be left out; None stands for "found from the data".
    """
    return dataclasses.field(
        default=default, metadata={"least": least, "most": most, "above": above}
    )


@dataclass(frozen=True)
class Parameter:
    """One number of a rule: what it is called, its range, and its default where it has one."""

    name: str
    default: Any
    least: float
    most: float
    above: float

    @property
    def optional(self) -> bool:
        """Whether it may be left out."""
        return self.default is not dataclasses.MISSING

    @property
    def range(self) -> str:
        """Say its range in words; nothing where any number will do.

        >>> Parameter("p", 1.0, 0.0, 100.0, -math.inf).range
        '0 to 100'
        """
        if self.above > -math.inf:
            return f"above {plain(self.above)}" + (
                f" and up to {plain(self.most)}" if self.most < math.inf else ""
            )
        if self.least > -math.inf:
            return f"{plain(self.least)} to {plain(self.most)}"
        return ""

    def checked(self, given: Any) -> float:
        """Return a number as a plain float, or raise LookError."""
        if isinstance(given, bool | str) or not hasattr(given, "__float__"):
            raise LookError(f"{self.name} {given!r}: expected a number")
        value = float(given)
        if not math.isfinite(value):
            raise LookError(f"{self.name}: the numbers must be finite")
        if not (self.least <= value <= self.most and value > self.above):
            raise LookError(f"{self.name} {plain(value)}: expected {self.range}")
        return value


def plain(value: float) -> str:
    """Return a number as a person writes it, with all its digits.

    >>> plain(3.0), plain(0.1), plain(-1e300)
    ('3', '0.1', '-1e+300')
    """
    return repr(float(value)).removesuffix(".0")


class UnfitNumbers(LookError):
    """Numbers that a rule cannot have; ``why`` says it without the rule's name."""

    def __init__(self, rule: str, why: str) -> None:
        super().__init__(f"{rule}: {why}")
        self.why = why


class Rule:
    """A named rule. A kind of rules sets ``what``; each of its rules is a subclass with a name.

    A subclass is a frozen dataclass whose fields are made by ``number``, in the order in which they
    are written. It is known by its name from the moment it is defined.
    """

    what: ClassVar[str]
    known: ClassVar[dict[str, type[Any]]]
    name: ClassVar[str] = ""
    help: ClassVar[str] = ""

    def __init_subclass__(cls, name: str = "", help: str = "", **more: Any) -> None:
        super().__init_subclass__(**more)
        if "what" in cls.__dict__:
            cls.known = {}
        if name:
            other = cls.known.get(name)
            if other is not None and other.__qualname__ != cls.__qualname__:
                raise TypeError(f"{cls.what} {name!r} are known already, as {other!r}")
            cls.name, cls.help = name, help
            cls.known[name] = cls

    def __post_init__(self) -> None:
        """Check the numbers, and keep them as plain floats: NumPy's own are no text."""
        try:
            for one in self.parameters():
                given = getattr(self, one.name)
                if given is not None or not one.optional:
                    object.__setattr__(self, one.name, one.checked(given))
            self.check()
        except LookError as error:
            raise UnfitNumbers(f"{self.what} {self.name}", str(error)) from None

    def check(self) -> None:
        """Raise LookError, without the rule's name, where numbers do not go together."""

    @classmethod
    def parameters(cls) -> tuple[Parameter, ...]:
        """Return what numbers the rule takes."""
        listed = dataclasses.fields(cls)  # type: ignore[arg-type]
        return tuple(
            Parameter(one.name, one.default, **one.metadata) for one in listed if one.metadata
        )

    @classmethod
    def form(cls) -> str:
        """Return how it is written: ``percentile:low,high``."""
        wanted = cls.parameters()
        names = ",".join(one.name for one in wanted)
        if all(one.optional for one in wanted):
            return f"{cls.name}[:{names}]" if names else cls.name
        return f"{cls.name}:{names}"

    @property
    def tail(self) -> str:
        """What is written after the name."""
        values = [getattr(self, one.name) for one in self.parameters()]
        return ",".join(plain(value) for value in values if value is not None)

    def __str__(self) -> str:
        return f"{self.name}:{self.tail}" if self.tail else self.name

    @classmethod
    def read(cls, tail: str) -> Self:
        """Return the rule of what is written after its name, or raise LookError."""
        wanted = cls.parameters()
        parts = [part.strip() for part in tail.split(",")] if tail.strip() else []
        least = sum(not one.optional for one in wanted)
        if not least <= len(parts) <= len(wanted):
            raise LookError(f"{cls.name} takes {_counted(least, len(wanted))}, not {len(parts)}: "
                            f"{cls.form()}")  # fmt: skip
        try:
            numbers = [float(part) for part in parts]
        except ValueError:
            raise LookError(f"{tail!r} is not {_counted(least, len(wanted))}") from None
        return cls(*numbers)

    @classmethod
    def parse(cls, text: str) -> Self:
        """Read ``name`` or ``name:number,number``; LookError says what is possible."""
        name, _, tail = text.strip().partition(":")
        name = name.strip()
        if name not in cls.known:
            hint = nearest(name, sorted(cls.known))
            hint = hint if "did you mean" in hint else ""
            raise LookError(
                f"{cls.what} {text!r}: expected one of {', '.join(sorted(cls.known))}{hint}"
            )
        try:
            found: Self = cls.known[name].read(tail)
        except LookError as error:
            why = error.why if isinstance(error, UnfitNumbers) else error
            raise LookError(f"{cls.what} {text!r}: {why}") from None
        return found


def _counted(least: int, most: int) -> str:
    if least == most:
        return f"{most} numbers" if most != 1 else "1 number"
    return f"{least} to {most} numbers"


def forms(kind: type[Rule]) -> str:
    """Return how each rule of a kind is written, in a line: for the help of options."""
    return ", ".join(one.form() for one in kind.known.values())


def table(kind: type[Rule]) -> str:
    """Return the rules of a kind as a Markdown table: for documents, which a test holds to it."""
    lines = [f"| {kind.what} | numbers | |", "| --- | --- | --- |"]
    for one in kind.known.values():
        numbers = "; ".join(_said(each) for each in one.parameters())
        lines.append(f"| `{one.form()}` | {numbers} | {one.help} |")
    return "\n".join(lines)


def _said(one: Parameter) -> str:
    words: Sequence[str] = [one.name, one.range]
    default = ""
    if one.optional:
        default = "(else fitted to the data)" if one.default is None else (
            f"(else {plain(one.default)})")  # fmt: skip
    return " ".join(word for word in [*words, default] if word)
