"""The types that numbers are stored as."""

from __future__ import annotations

from typing import Literal, get_args

NumberType = Literal["uint8", "uint16", "uint32", "uint64", "int8", "int16", "int32", "int64",
                     "float16", "float32", "float64"]  # fmt: skip
NUMBER_TYPES: tuple[NumberType, ...] = get_args(NumberType)
