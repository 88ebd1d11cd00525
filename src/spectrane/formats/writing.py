"""What writers of formats take beside what is written and where."""

from __future__ import annotations

from typing import Literal, TypedDict

from spectrane.formats.flat import ByteOrder, Interleave


class WriteOptions(TypedDict, total=False):
    """Options of ``save`` that belong to a format; each writer refuses those of another.

    Formats that were added may take others.
    """

    compress: str
    overviews: bool
    tile: int
    planes: Literal["chunky", "planar"]
    quality: int
    interleave: Interleave
    order: ByteOrder
    resume: bool
    engine: str | None
    version: int
