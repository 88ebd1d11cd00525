"""What is wrong with a table somebody wrote, said once for all the files of ours."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, get_args

from spectrane.model.errors import nearest

if TYPE_CHECKING:
    from pydantic import BaseModel, ValidationError


def table_problem(error: ValidationError, table: type[BaseModel]) -> str:
    """Say the first thing that is wrong: a key there is not before one that is missing.

    >>> from pydantic import BaseModel, ConfigDict, ValidationError
    >>> class Stack(BaseModel):
    ...     model_config = ConfigDict(extra="forbid")
    ...     band: list[int]
    >>> try:
    ...     Stack.model_validate({"bands": [1]})
    ... except ValidationError as error:
    ...     print(table_problem(error, Stack))
    no key 'bands'; did you mean 'band'?
    """
    problems = error.errors()
    first = next((one for one in problems if one["type"] == "extra_forbidden"), problems[0])
    *before, key = first["loc"]
    where = ".".join(str(step + 1 if isinstance(step, int) else step) for step in first["loc"])
    if first["type"] == "extra_forbidden":
        return f"no key {where!r}{nearest(str(key), _table_at(table, before).model_fields)}"
    if first["type"] == "missing":
        return f"{where}: field required"
    said = first["msg"].removeprefix("Value error, ").lower()
    return f"{where}: {said}; found {first['input']!r}"


def _table_at(table: type[BaseModel], steps: list[Any]) -> type[BaseModel]:
    """Return the table that lies at a place, by the types that the tables above it declare."""
    for step in steps:
        field = table.model_fields.get(step) if isinstance(step, str) else None
        if field is not None:
            table = next(_tables_in(field.annotation), table)
    return table


def _tables_in(kind: Any) -> Iterator[type[BaseModel]]:
    if hasattr(kind, "model_fields"):
        yield kind
    for part in get_args(kind):
        yield from _tables_in(part)
