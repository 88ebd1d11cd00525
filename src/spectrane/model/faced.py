"""What the faces of rasters and volumes say and do alike, each forwarding to its source."""

from __future__ import annotations

from typing import Any, Self

import numpy as np
from numpy.typing import NDArray

from spectrane.model.arrays import as_asked, plain_array
from spectrane.model.display_window import DisplayWindow
from spectrane.model.grid import Grid
from spectrane.model.look import Look
from spectrane.model.source import Source


class Faced:
    """A face of a source: what it is, where it is from, and letting go of it."""

    def __init__(self, source: Source) -> None:
        self._source = source

    @property
    def grid(self) -> Grid:
        """Where the pixels or voxels lie."""
        return self._source.grid

    @property
    def dtype(self) -> np.dtype[Any]:
        """The type of the stored numbers."""
        return self._source.dtype

    @property
    def format(self) -> str:
        """The file's format, or ``memory``."""
        return self._source.format

    @property
    def source(self) -> str:
        """The file's path or address."""
        return self._source.name

    @property
    def metadata(self) -> dict[str, Any]:
        """Everything the file says, under readable names."""
        return dict(self._source.metadata)

    @property
    def look(self) -> Look | None:
        """The display defaults kept with the file, or None."""
        return self._source.look

    @property
    def windows(self) -> tuple[DisplayWindow, ...]:
        """The windows kept with the file, its default first; ``window:2`` is the second."""
        return self._source.windows

    @property
    def identity(self) -> tuple[str, ...]:
        """Which elements of ``metadata`` say who somebody is; nothing prints them unasked."""
        return self._source.identity

    def to_numpy(self, *, fill: Any = None) -> NDArray[Any]:
        """Return all numbers as a plain array; what is invalid is ``fill`` (None: NaN).

        Of a raster (bands, rows, columns) as stored, of a volume (i, j, k) of the first frame in
        physical values: what ``pixels()`` and ``voxels()`` give. Raises ArgumentError for invalid
        integers without a fill.
        """
        return plain_array(self._masked_array(), fill, type(self).__name__.lower())

    def __array__(self, dtype: Any = None, copy: bool | None = None) -> NDArray[Any]:
        """Return all numbers, as ``to_numpy`` does: what NumPy's functions take."""
        return as_asked(self.to_numpy(), dtype, copy, type(self).__name__.lower())

    def _masked_array(self) -> np.ma.MaskedArray[Any, Any]:
        raise NotImplementedError

    def close(self) -> None:
        """Let go of the file; reading again opens it again."""
        self._source.close()

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()
