"""Where the pixels of a swath lie: a longitude and a latitude for each."""

from __future__ import annotations

from abc import ABC, abstractmethod

import numpy as np
from numpy.typing import NDArray

from spectrane.model.window import Window, shifted

F64 = NDArray[np.float64]
AS_STORED = ("a swath: its rows are drawn as they are stored, not as they lie on a map; regrid "
             "(spectrane export --crs EPSG:CODE) brings it to one")  # fmt: skip


class Geolocation(ABC):
    """Longitude and latitude (degrees, WGS 84) of each pixel's centre, read by window."""

    shape: tuple[int, ...]

    @abstractmethod
    def read(self, window: Window) -> tuple[F64, F64]:
        """Return longitude and latitude (rows, columns); NaN where a pixel has no place."""

    def cropped(self, window: Window) -> Geolocation:
        """Return that of a part.

        >>> HeldGeolocation(np.eye(3), np.ones((3, 3))).cropped(((0, 1), (0, 2))).shape
        (1, 2)
        """
        return _Cropped(self, window)


class _Cropped(Geolocation):
    def __init__(self, parent: Geolocation, window: Window) -> None:
        self.parent, self.window = parent, window
        self.shape = tuple(stop - start for start, stop in window)

    def read(self, window: Window) -> tuple[F64, F64]:
        return self.parent.read(shifted(window, [start for start, _ in self.window]))


class HeldGeolocation(Geolocation):
    """Positions in memory."""

    def __init__(self, longitude: F64, latitude: F64) -> None:
        self.longitude, self.latitude = longitude, latitude
        self.shape = longitude.shape

    def read(self, window: Window) -> tuple[F64, F64]:
        """Return views."""
        where = tuple(slice(*pair) for pair in window)
        return self.longitude[where], self.latitude[where]
