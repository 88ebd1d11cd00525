"""The ways to answer a read at another size, and to stack slices that lie unevenly."""

from __future__ import annotations

from typing import Literal, get_args

from spectrane.model.errors import LookError

Resampling = Literal["nearest", "area", "majority", "bilinear", "cubic", "lagrange", "lanczos"]
RESAMPLINGS: tuple[Resampling, ...] = get_args(Resampling)
"""Their names; numbers of ``majority`` and ``nearest`` are never mixed from several."""
MIXING = ("area", "bilinear", "cubic", "lagrange", "lanczos", "trilinear")
"""Those that make numbers which were not there."""
Spacing = Literal["resample", "nominal"]
SPACINGS: tuple[Spacing, ...] = get_args(Spacing)
"""Slices of a series with uneven gaps: even ones by interpolation, or as if they were even."""


def check_unmixed(mixable: bool, resample: str | None, force: bool = False) -> None:
    """Raise LookError where a kernel would mix numbers that are names, unless it is forced."""
    if mixable or force or resample not in MIXING:
        return
    raise LookError(
        f"resample {resample}: the numbers are names of classes or flags, and would be mixed; use "
        "nearest or majority, or force it (force=True, --force)"
    )
