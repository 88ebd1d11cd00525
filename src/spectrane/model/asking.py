"""What callers may give where one thing can be said in several ways."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal, Protocol, TypeAlias, get_args

from spectrane.model.errors import LookError, nearest

if TYPE_CHECKING:
    import pandas
    from numpy.typing import NDArray

    from spectrane.model.addresses import FilePath
    from spectrane.model.given import Given
    from spectrane.model.grid import Grid
    from spectrane.model.source import Source
    from spectrane.model.view import View


PlacedBy = Literal["sform", "qform"]
MATRICES: tuple[PlacedBy, ...] = get_args(PlacedBy)
"""The two matrices of NIfTI that may place a volume, the one that goes first first."""
BarSide = Literal["right", "left", "bottom"]
SIDES: tuple[BarSide, ...] = get_args(BarSide)
"""Where a picture's key stands."""


def checked_side(side: str | None) -> None:
    """Raise LookError unless a key's side is one of ``SIDES``, or None for no key."""
    if side is not None and side not in SIDES:
        raise LookError(f"bar {side!r}{nearest(side, SIDES)}")


class HasSource(Protocol):
    """A raster, a volume, a mask: what wraps a source."""

    _source: Source


class HasGrid(Protocol):
    """A raster, a volume, a picture: what lies on a grid."""

    @property
    def grid(self) -> Grid:
        """Where its pixels or voxels lie."""


class HasGeometry(Protocol):
    """What says its GeoJSON geometry, such as a geometry of shapely or our own ``Shapes``."""

    @property
    def __geo_interface__(self) -> Mapping[str, object]:
        """The geometry, as GeoJSON has it."""


class HasFeatures(Protocol):
    """Shapes that were read: see ``spatial.shapes``."""

    @property
    def features(self) -> Sequence[object]:
        """Their features."""


SourceLike: TypeAlias = "Source | HasSource"
"""A raster, a volume or a mask, or the source in one."""
GridLike: TypeAlias = "Grid | HasGrid"
"""A grid, or anything that has one."""
Spacings: TypeAlias = "float | Sequence[float]"
"""A pixel's side, or its sides along x and y."""
ShapeLike: TypeAlias = (
    "HasFeatures | HasGeometry | Mapping[str, object] | FilePath | Sequence[float]"
)
"""Shapes that were read, a geometry, a GeoJSON mapping, a file of shapes, or bounds."""
RegionLike: TypeAlias = "View | ShapeLike"
"""A part of a raster."""
PointsLike: TypeAlias = (
    "HasFeatures | HasGeometry | Mapping[str, object] | Sequence[Mapping[str, object]] | FilePath "
    "| pandas.DataFrame"
)
"""Named points: mappings, a table, a CSV file, or shapes."""
VolumePoints: TypeAlias = "PointsLike | Sequence[float] | Sequence[Sequence[float]] | NDArray[Any]"
"""Points of a volume: named ones, or three numbers each."""
NoDataItem: TypeAlias = "float | tuple[float, float] | Sequence[float | tuple[float, float]]"
NoDataLike: TypeAlias = "NoDataItem | Given[int | str, NoDataItem | None] | None"
"""A stored number, (low, high) ranges in a list, one of these per band, or None: there is none."""
BandFields: TypeAlias = "Given[int | str, Mapping[str, object]]"
"""Fields of bands by their number, name or role."""


def as_tuple(given: Sequence[Any] | None) -> Any:
    """Return a list as the tuple that is meant; the checks that follow see anything else.

    >>> as_tuple([1, 2]), as_tuple(None), as_tuple(5)
    ((1, 2), None, 5)
    """
    return tuple(given) if isinstance(given, list) else given
