"""The JSON documents that commands answer with, checked against what ``results`` says they are."""

from __future__ import annotations

import json
from collections.abc import Sequence
from typing import Annotated, Any

from pydantic import Field, TypeAdapter

from spectrane.cli.results import RESULTS, SCHEMA, FailedResult


def _adapter(command: str) -> TypeAdapter[Any]:
    """Return what checks a command's list of results: each is of the first kind that fits."""
    kinds: Any = FailedResult
    for one in reversed(RESULTS[command]):
        kinds = one | kinds
    several: Any = Sequence[Annotated[kinds, Field(union_mode="left_to_right")]]
    adapter: TypeAdapter[Any] = TypeAdapter(several)
    return adapter


_BY_EYE = 1 << 20
"""Characters of a document up to which it is set out in lines."""


def document(command: str, results: Sequence[Any], warnings: Sequence[str]) -> str:
    """Return the JSON document of a command. Raises pydantic's error where it breaks the schema."""
    kind = _adapter(command)
    checked = kind.validate_python(list(results))
    content = {
        "schema": SCHEMA, "command": command,
        "results": kind.dump_python(checked, mode="json", exclude_unset=True),
        "warnings": list(warnings),
    }  # fmt: skip
    text = json.dumps(content)  # which is quick; what is read by eye is short
    return json.dumps(content, indent=2) if len(text) < _BY_EYE else text


def json_schema() -> dict[str, Any]:
    """Return the JSON Schema (2020-12) of every command's document, by the command's name."""
    schema: dict[str, Any] = {}
    definitions: dict[str, Any] = {}
    for command in RESULTS:
        made = _adapter(command).json_schema(ref_template="#/$defs/{model}")
        definitions |= made.pop("$defs", {})
        schema[command] = {
            "properties": {
                "schema": {"const": SCHEMA}, "command": {"const": command}, "results": made,
                "warnings": {"type": "array", "items": {"type": "string"}},
            },
            "required": ["schema", "command", "results", "warnings"],
            "additionalProperties": False,
            "type": "object",
        }  # fmt: skip
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "What spectrane COMMAND --json answers",
        "oneOf": list(schema.values()),
        "$defs": definitions,
    }
