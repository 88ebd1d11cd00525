"""Values that options take: how each is written, read, and completed."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Iterable, Sequence
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    ParamType = click.ParamType[Any]
else:  # what is only generic for type checkers in some versions
    ParamType = click.ParamType


class CompletedText(ParamType):
    """Text that a shell may complete from words: some of many things that can be said."""

    def __init__(self, name: str, words: Callable[[], Iterable[str]]) -> None:
        self.name, self._words = name, words

    def shell_complete(self, ctx: Any, param: Any, incomplete: str) -> list[Any]:
        """Return the words that begin so."""
        from click.shell_completion import CompletionItem

        return [CompletionItem(word) for word in self._words() if word.startswith(incomplete)]


class Size(ParamType):
    """``COLUMNSxROWS``, given as (rows, columns)."""

    name = "COLUMNSxROWS"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[int, int]:
        """Read a size such as 1280x800."""
        if isinstance(value, tuple):
            return value
        match = re.fullmatch(r"([1-9]\d{0,5})[x×X]([1-9]\d{0,5})", value.strip())
        if not match:
            self.fail(f"{value!r} is not COLUMNSxROWS, such as 1280x800.", param, ctx)
        return int(match[2]), int(match[1])


class Numbers(ParamType):
    """Numbers with commas between them: ``count`` of them, or up to ``most``."""

    def __init__(
        self, count: int, name: str, most: int | None = None, kind: type[int | float] = float
    ) -> None:
        self.counts, self.name, self.kind = range(count, (most or count) + 1), name, kind

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        """Read numbers such as 1,2.5."""
        if isinstance(value, tuple):
            return value
        try:
            numbers = tuple(self.kind(part) for part in value.split(","))
        except ValueError:
            numbers = ()
        if len(numbers) not in self.counts:
            wanted = " or ".join(map(str, self.counts))
            whole = "whole " if self.kind is int else ""
            self.fail(f"{value!r} is not {self.name}: {wanted} {whole}numbers.", param, ctx)
        return numbers


class Area(Numbers):
    """Map bounds, or the word for all that layers cover."""

    def __init__(self) -> None:
        super().__init__(4, "X1,Y1,X2,Y2|union")

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        """Read bounds, or union."""
        return value if value == "union" else super().convert(value, param, ctx)


class MapOpacity(ParamType):
    """``value``, or a share."""

    name = "value|SHARE"

    def convert(self, value: Any, param: Any, ctx: Any) -> Any:
        """Read ``value`` or a number from 0 to 1."""
        if value == "value":
            return value
        try:
            share = float(value)
        except ValueError:
            share = -1.0
        if not 0 <= share <= 1:
            self.fail(f"{value!r} is not 'value', nor a share from 0 to 1.", param, ctx)
        return share


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


class Range(ParamType):
    """``LOW..HIGH``, either of which may be left out unless ``both`` are needed."""

    name = "LOW..HIGH"

    def __init__(self, *, both: bool = False) -> None:
        self.both = both

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float | None, float | None]:
        """Read a range such as 0.2..0.9 or ..10."""
        if isinstance(value, tuple):
            return value
        low, dots, high = value.partition("..")
        try:
            ends = (float(low) if low else None, float(high) if high else None)
        except ValueError:
            ends = (None, None)
        if not dots or ends == (None, None) or (self.both and None in ends):
            self.fail(f"{value!r} is not LOW..HIGH.", param, ctx)
        return ends


class Corners(ParamType):
    """Two or four map positions with blanks or semicolons between them."""

    name = "X,Y X,Y [X,Y X,Y]"

    def convert(self, value: Any, param: Any, ctx: Any) -> list[tuple[float, float]]:
        """Read positions such as '0,10 20,0'."""
        if not isinstance(value, str):
            match: list[tuple[float, float]] = value
            return match
        try:
            pairs = [tuple(float(n) for n in part.split(","))
                     for part in value.replace(";", " ").split()]  # fmt: skip
        except ValueError:
            pairs = []
        if len(pairs) not in (2, 4) or any(len(pair) != 2 for pair in pairs):
            self.fail(f"{value!r} is not two or four positions X,Y.", param, ctx)
        return [(pair[0], pair[1]) for pair in pairs]


class Least(ParamType):
    """A size in voxels, or in mm³."""

    name = "N[mm3]"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float, bool]:
        """Read 20 or 50mm3."""
        if isinstance(value, tuple):
            return value
        try:
            size = float(value.removesuffix("mm3"))
        except ValueError:
            self.fail(f"{value!r} is not a number of voxels, or of mm3: 20, 50mm3", param, ctx)
        return size, value.endswith("mm3")


def with_fields(text: str, known: Sequence[str]) -> tuple[str, dict[str, str]]:
    """Return the file of ``FILE,KEY=VALUE,…`` and what is said of it alone.

    A comma begins a key only before ``KEY=``; a file of the whole name is that file.

    >>> with_fields("a.tif,nodata=0,limits=percentile:2,98", ["nodata", "limits"])
    ('a.tif', {'nodata': '0', 'limits': 'percentile:2,98'})
    """
    if os.path.exists(text):
        return text, {}
    path, *parts = re.split(r",(?=\s*[a-z_]+\s*=)", text)
    fields: dict[str, str] = {}
    for part in parts:
        key, _, value = part.partition("=")
        if key.strip() not in known:
            raise click.UsageError(f"{text}: no {key.strip()!r} for one file; known: "
                                   f"{', '.join(known)}")  # fmt: skip
        fields[key.strip()] = value.strip()
    return path, fields


def each(text: str | None, count: int, what: str, kind: Any, plain: Any) -> list[Any]:
    """Return a value for each of ``count`` things from texts with commas, or the plain one."""
    if text is None:
        return [plain] * count
    try:
        values = [kind(part.strip()) for part in text.split(",")]
    except ValueError as error:
        raise click.UsageError(f"{what} {text!r}: expected numbers with commas") from error
    if len(values) != count:
        raise click.UsageError(f"{what} {text!r}: {len(values)} values for {count}")
    return values
