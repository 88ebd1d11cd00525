"""Rules that a person names with numbers, such as ``percentile:2,98``: one registry per kind.

A rule is a small frozen object. Its class says everything there is to say of it once: its name, its
numbers with their ranges and defaults, a line of help, and what it does. Reading it from text,
the errors, the help of the options and the tables of the documents come from there.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any, ClassVar, Self, dataclass_transform

from spectrane.model.errors import LookError, nearest

_MISSING: Any = object()


class Parameter:
    """One field of a rule: what it is called, its range, and its default where it has one.

    ``numeric`` fields are the numbers that are written after the rule's name.
    """

    def __init__(
        self, default: Any = _MISSING, least: float = -math.inf, most: float = math.inf,
        above: float = -math.inf, numeric: bool = True,
    ) -> None:  # fmt: skip
        self.default, self.least, self.most, self.above = default, least, most, above
        self.numeric, self.name = numeric, ""

    def __set_name__(self, owner: type, name: str) -> None:
        self.name = name

    @property
    def optional(self) -> bool:
        """Whether it may be left out."""
        return self.default is not _MISSING

    @property
    def range(self) -> str:
        """Say its range in words; nothing where any number will do.

        >>> Parameter(least=0.0, most=100.0).range
        '0 to 100'
        """
        if self.above > -math.inf:
            return f"above {format_number(self.above)}" + (
                f" and up to {format_number(self.most)}" if self.most < math.inf else ""
            )
        if self.least > -math.inf:
            return f"{format_number(self.least)} to {format_number(self.most)}"
        return ""

    def checked(self, given: Any) -> float:
        """Return a number as a plain float, or raise LookError."""
        if isinstance(given, bool | str) or not hasattr(given, "__float__"):
            raise LookError(f"{self.name} {given!r}: expected a number")
        value = float(given)
        if not math.isfinite(value):
            raise LookError(f"{self.name}: the numbers must be finite")
        if not (self.least <= value <= self.most and value > self.above):
            raise LookError(f"{self.name} {format_number(value)}: expected {self.range}")
        return value


def number(
    default: Any = _MISSING, *, least: float = -math.inf, most: float = math.inf,
    above: float = -math.inf,
) -> Any:  # fmt: skip
    """Return a field for one of a rule's numbers: from ``least`` to ``most``, or ``above``.

    With a default the number may be left out; None stands for "found from the data".
    """
    return Parameter(default, least, most, above)


def held(default: Any = _MISSING) -> Any:
    """Return a field for what a rule holds besides its numbers."""
    return Parameter(default, numeric=False)


def format_number(value: float) -> str:
    """Return a number as a person writes it, with all its digits.

    >>> format_number(3.0), format_number(0.1), format_number(-1e300)
    ('3', '0.1', '-1e+300')
    """
    return repr(float(value)).removesuffix(".0")


class UnfitNumbers(LookError):
    """Numbers that a rule cannot have; ``why`` says it without the rule's name."""

    def __init__(self, rule: str, why: str) -> None:
        super().__init__(f"{rule}: {why}")
        self.why = why


@dataclass_transform(frozen_default=True, field_specifiers=(number, held))
class Rule:
    """A named rule. A kind of rules sets ``what``; each of its rules is a subclass with a name.

    A rule is a value: it does not change, is equal to one that says the same, and has a hash. Its
    fields are made by ``number`` (and ``held``), in the order in which they are written; it is
    known by its name from the moment its class is defined. (Made here and not by ``dataclasses``,
    which would take as long to make two dozen as NumPy takes to load.)
    """

    what: ClassVar[str]
    known: ClassVar[dict[str, type[Any]]]
    fields: ClassVar[tuple[Parameter, ...]] = ()
    name: ClassVar[str] = ""
    help: ClassVar[str] = ""

    def __init_subclass__(cls, name: str = "", help: str = "", **more: Any) -> None:
        super().__init_subclass__(**more)
        if "what" in cls.__dict__:
            cls.known = {}
        own = tuple(field for field in vars(cls).values() if isinstance(field, Parameter))
        cls.fields = (*cls.fields, *own)
        if name:
            other = cls.known.get(name)
            if other is not None and other.__qualname__ != cls.__qualname__:
                raise TypeError(f"{cls.what} {name!r} are known already, as {other!r}")
            cls.name, cls.help = name, help
            cls.known[name] = cls

    def __init__(self, *given: Any, **named: Any) -> None:
        if len(given) > len(self.fields):
            raise TypeError(f"{type(self).__name__} takes {len(self.fields)} values")
        values = dict(zip((field.name for field in self.fields), given, strict=False)) | named
        unknown = values.keys() - {field.name for field in self.fields}
        if unknown:
            raise TypeError(f"{type(self).__name__} has no {', '.join(sorted(unknown))}")
        for field in self.fields:
            if field.name not in values and not field.optional:
                raise TypeError(f"{type(self).__name__} needs {field.name}")
            self._put(field.name, values.get(field.name, field.default))
        try:
            for parameter in self.parameters():
                value = getattr(self, parameter.name)
                if value is not None or not parameter.optional:
                    self._put(parameter.name, parameter.checked(value))
            self.check()
        except LookError as error:
            raise UnfitNumbers(f"{self.what} {self.name}", str(error)) from None

    def _put(self, name: str, value: Any) -> None:
        self.__dict__[name] = value

    def __setattr__(self, name: str, value: Any) -> None:
        raise AttributeError(f"{type(self).__name__} cannot be changed; make another")

    def _values(self) -> tuple[Any, ...]:
        return tuple(getattr(self, field.name) for field in self.fields)

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Rule):
            return NotImplemented
        return type(self) is type(other) and self._values() == other._values()

    def __hash__(self) -> int:
        return hash((type(self), self._values()))

    def __repr__(self) -> str:
        said = ", ".join(f"{field.name}={getattr(self, field.name)!r}" for field in self.fields)
        return f"{type(self).__name__}({said})"

    def check(self) -> None:
        """Raise LookError, without the rule's name, where numbers do not go together."""

    @classmethod
    def parameters(cls) -> tuple[Parameter, ...]:
        """Return what numbers the rule takes."""
        return tuple(field for field in cls.fields if field.numeric)

    @classmethod
    def form(cls) -> str:
        """Return how it is written: ``percentile:low,high``."""
        wanted = cls.parameters()
        names = ",".join(field.name for field in wanted)
        if all(field.optional for field in wanted):
            return f"{cls.name}[:{names}]" if names else cls.name
        return f"{cls.name}:{names}"

    @property
    def tail(self) -> str:
        """What is written after the name."""
        values = [getattr(self, parameter.name) for parameter in self.parameters()]
        return ",".join(format_number(value) for value in values if value is not None)

    def __str__(self) -> str:
        return f"{self.name}:{self.tail}" if self.tail else self.name

    @classmethod
    def read(cls, tail: str) -> Self:
        """Return the rule of what is written after its name, or raise LookError."""
        wanted = cls.parameters()
        parts = [part.strip() for part in tail.split(",")] if tail.strip() else []
        least = sum(not field.optional for field in wanted)
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
    return ", ".join(rule.form() for rule in kind.known.values())


def rules_table(kind: type[Rule]) -> str:
    """Return the rules of a kind as a Markdown table: for documents, which a test holds to it."""
    lines = [f"| {kind.what} | numbers | |", "| --- | --- | --- |"]
    for rule in kind.known.values():
        numbers = "; ".join(_said(each) for each in rule.parameters())
        lines.append(f"| `{rule.form()}` | {numbers} | {rule.help} |")
    return "\n".join(lines)


def _said(field: Parameter) -> str:
    words: Sequence[str] = [field.name, field.range]
    default = ""
    if field.optional:
        default = "(else fitted to the data)" if field.default is None else (
            f"(else {format_number(field.default)})")  # fmt: skip
    return " ".join(word for word in [*words, default] if word)
