"""A finished picture: what a person sees, and what it says of itself."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any

import numpy as np
from numpy.typing import NDArray

from spectrane.display.shading import Scale
from spectrane.engine.files import written_whole
from spectrane.formats.png.encoding import encode_png
from spectrane.model.errors import FormatError, LookError
from spectrane.model.grid import Grid


@dataclass(frozen=True)
class Picture:
    """A display of a raster: levels and colours, not data.

    ``rgba`` is (rows, columns, 4) uint8 with straight alpha; ``grid`` says where it lies, and
    ``scales`` how each channel was shown. ``source`` is the file's name, without its folder.
    """

    rgba: NDArray[np.uint8]
    grid: Grid
    scales: tuple[Scale, ...]
    source: str
    _draw16: Callable[[], NDArray[np.uint16]] = field(repr=False, compare=False)
    notes: tuple[str, ...] = ()

    @cached_property
    def rgba16(self) -> NDArray[np.uint16]:
        """The same picture in 16 bits, computed from the values and not from 8-bit levels."""
        return self._draw16()

    @property
    def description(self) -> str:
        """What the picture says of itself when it is saved."""
        lines = ["Display picture, not data: do not measure on it.", f"Source: {self.source}"]
        names = ("grey",) if len(self.scales) == 1 else ("red", "green", "blue", "alpha")
        channels = ", ".join(f"{n} = {s.band}" for n, s in zip(names, self.scales, strict=False))
        lines.append(f"Channels: {channels or 'classes'}")
        lines.append(f"Limits: {'; '.join(map(str, self.scales)) or 'none'}")
        lines += [f"Curve: {self.scales[0].curve}"] if self.scales else []
        lines += self.notes
        if self.grid.placed:
            bounds = ", ".join(f"{value:.10g}" for value in self.grid.bounds)
            lines.append(f"Bounds: {bounds} ({self.grid.crs_text or 'no coordinate system'})")
        return "\n".join(lines)

    def save(self, path: str | os.PathLike[str], *, bits: int = 8, overwrite: bool = False) -> None:
        """Write a PNG of 8 or 16 bits per channel, with its description in a text chunk.

        Raises ExistingFile, AccessError; FormatError for another ending than ``.png``.
        """
        if bits not in (8, 16):
            raise LookError(f"bits {bits}: expected 8 or 16")
        if not os.fspath(path).lower().endswith(".png"):
            raise FormatError(f"{os.fspath(path)}: pictures are written as .png")
        with written_whole(path, overwrite=overwrite) as file:
            file.write(self._png(self.rgba if bits == 8 else self.rgba16))

    def _png(self, rgba: NDArray[Any]) -> bytes:
        return encode_png(rgba, {"Description": self.description, "Software": "Spectrane"})

    def _repr_png_(self) -> bytes:
        return self._png(self.rgba)
