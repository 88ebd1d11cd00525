"""Slices of a volume, as they are looked at: axial, coronal, sagittal; in mm or as stored.

Patient axes are x to the right, y to the front, z to the head (RAS+). Radiologists see the
patient's right on the left of a picture, front or head up, and the front on the left of a sagittal
one.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Literal, get_args

import numpy as np
from numpy.typing import NDArray

from spectrane.engine.derived import Derived
from spectrane.engine.described import Described
from spectrane.engine.full import FullSource
from spectrane.engine.threads import in_parallel, row_parts
from spectrane.kernels.records import record
from spectrane.kernels.slicing import (
    WAYS,
    along_axes,
    nearest_voxels,
    put,
    slab,
    stored,
    stored_reference,
)
from spectrane.model.errors import GridMismatch, LookError, ResourceError
from spectrane.model.errors import nearest as nearest_name
from spectrane.model.grid import Grid
from spectrane.model.patient import LETTERS, aligned_axes, own_turn, reach, turned_back
from spectrane.model.physical import value_dtype
from spectrane.model.pixels import Pixels
from spectrane.model.resampling import check_unmixed
from spectrane.model.source import Source
from spectrane.model.window import Window, extent, window_area
from spectrane.spatial.slabs import Slab, parallel

F64 = NDArray[np.float64]
PlaneName = Literal["axial", "coronal", "sagittal"]
AnyPlane = Literal[PlaneName, "oblique"]
PLANES: dict[str, tuple[int, int, int]] = dict(
    zip(get_args(PlaneName), ((2, 0, 1), (1, 0, 2), (0, 1, 2)), strict=True)
)
"""Plane -> patient axis across it, along its columns, along its rows."""
SliceAxes = Literal["patient", "own"]
AXES: tuple[SliceAxes, ...] = get_args(SliceAxes)
Side = Literal["radiological", "neurological"]
SIDES: tuple[Side, ...] = get_args(Side)
Projection = Literal["maximum", "minimum", "mean"]
PROJECTIONS: tuple[Projection, ...] = get_args(Projection)
SliceMode = Literal["panels", "checker"]
SLICE_MODES: tuple[SliceMode, ...] = get_args(SliceMode)
"""Slices side by side; two in alternating squares."""
_THICK = 16
"""Voxels in the box around a plane, per pixel of it, from which the box is not worth copying."""


@record(frozen=True)
class SlicePlane:
    """Which way a picture looks at the patient.

    ``columns`` and ``rows`` are (patient axis, direction); ``across`` is the axis that is cut.
    ``letters`` are those at the edges where the axes are not the patient's own.
    """

    name: str
    across: int
    columns: tuple[int, int]
    rows: tuple[int, int]
    letters: Mapping[str, str] | None = None

    @classmethod
    def of(cls, name: str, side: str = "radiological") -> SlicePlane:
        """Return a plane by name. Raises LookError for one that there is not."""
        if name not in PLANES:
            raise LookError(f"plane {name!r}{nearest_name(name, PLANES)}")
        if side not in SIDES:
            raise LookError(f"side {side!r}: expected {' or '.join(SIDES)}")
        across, along, down = PLANES[name]
        mirrored = side == "neurological" and along == 0
        return cls(name, across, (along, 1 if mirrored else -1), (down, -1))

    @property
    def labels(self) -> dict[str, str]:
        """Return the letters at the picture's edges: left, right, top, bottom."""
        if self.letters is not None:
            return dict(self.letters)
        sides = {}
        for (axis, way), (first, last) in ((self.columns, ("left", "right")),
                                           (self.rows, ("top", "bottom"))):  # fmt: skip
            low, high = LETTERS[axis]
            sides[first], sides[last] = (low, high) if way > 0 else (high, low)
        return sides


def seen_along(volume: Source, turn: F64) -> Source:
    """Return a volume as it lies seen along turned axes (3x3, to the patient's)."""
    return Described(volume, grid=turned_back(volume.grid, turn))


def kernel_for(volume: Source) -> str:
    """Return how a volume is looked up between voxels: labels and masks are not interpolated."""
    return "trilinear" if volume.mixable and volume.dtype.kind != "b" else "nearest"


def interpolated(volume: Source, resample: str) -> dict[str, Any]:
    """Return the types of numbers found between voxels: floats, whose fractions are kept; of whole
    numbers what is asked for as stored is rounded to the volume's own type.
    """
    if resample == "nearest" or volume.dtype.kind == "f":
        return {}
    return {"dtype": value_dtype(volume.dtype), "between": volume.stored_type}


def voxels_to_cut(volume: Source, frame: int, window: Window) -> NDArray[Any]:
    """Return a window of one frame as (k, j, i), as files hold it: floats, NaN where invalid."""
    pixels = volume.read([frame], window)
    valid = pixels.validity[0]
    cube = pixels.values[0].astype(value_dtype(volume.dtype))
    if not valid.all():
        cube = np.where(valid, cube, np.nan)
    return np.ascontiguousarray(cube.transpose(2, 1, 0))


_MOST = 1 << 26
"""Pixels of a slice at most: 8192 x 8192."""
_OF_VOLUMES = ("dtype", "between", "has_mask", "look", "name", "told_as", "format",
               "windows", "identity")  # fmt: skip
"""What a slice keeps of its volume."""


class Slice(Derived, FullSource):
    """A plane through a volume at a millimetre, on square pixels; or a slab of them.

    Values are trilinear, those of labels the nearest voxel's.
    """

    def __init__(
        self,
        volume: Source,
        plane: SlicePlane,
        at: float | None = None,
        *,
        frames: Sequence[int] = (),
        slab: float = 0.0,
        project: str = "maximum",
        resample: str | None = None,
    ) -> None:
        self.resample = resample or kernel_for(volume)
        check_unmixed(volume.mixable, self.resample)
        if project not in PROJECTIONS:
            raise LookError(f"projection {project!r}: expected {', '.join(PROJECTIONS)}")
        if not 0 <= slab < 1e5:
            raise LookError(f"slab {slab:g}: expected millimetres, 0 to 100000")
        super().__init__(volume, keep=_OF_VOLUMES, has_mask=True,
                         **interpolated(volume, self.resample))  # fmt: skip
        self.volume, self.plane, self.project = volume, plane, project
        self.frames = tuple(frames) or tuple(range(len(volume.bands)))
        low, high = reach(volume.grid)
        across = plane.across
        self.at = float((low[across] + high[across]) / 2) if at is None else float(at)
        if not low[across] <= self.at <= high[across]:
            raise GridMismatch(
                f"{plane.name} slice at {self.at:g} mm lies outside the volume, which reaches from "
                f"{low[across]:g} to {high[across]:g} mm"
            )
        self.bands = tuple(volume.bands[k] for k in self.frames)
        self.grid = self._grid(low, high)
        self.block_shape = self.grid.shape
        stored = parallel(volume, across) if slab and self.resample != "nearest" else None
        if stored is not None:
            self.volume = Slab(volume, stored, across, self.at, slab, project)
        side = self.grid.pixel_size[0]
        count = max(1, round(slab / side)) if slab and stored is None else 1
        self.depths = tuple(((np.arange(count) - (count - 1) / 2) * side).tolist())
        self.metadata = {"slice": {"plane": plane.name, "at": self.at, "slab": slab,
                                   "labels": plane.labels}}  # fmt: skip

    def _grid(self, low: F64, high: F64) -> Grid:
        """Return square pixels of the finest spacing in the plane, in mm of the patient's axes."""
        axes = aligned_axes(self.volume.grid)
        spacing = np.linalg.norm(self.volume.grid.matrix[:3, :3], axis=0)
        (along, way), (down, fall) = self.plane.columns, self.plane.rows
        side = float(min(spacing[axes[along]], spacing[axes[down]]))
        columns, rows = (
            max(1, int(np.ceil((high[axis] - low[axis]) / side - 1e-6))) for axis in (along, down)
        )
        if rows * columns > _MOST:
            raise ResourceError(
                f"{self.plane.name} slice: {rows} x {columns} pixels of {side:.3g} mm, the finest "
                "spacing; regrid the volume first, or cut along its own axes"
            )
        x = high[along] if way < 0 else low[along]
        y = high[down] if fall < 0 else low[down]
        affine = ((way * side, 0.0, float(x)), (0.0, fall * side, float(y)), (0.0, 0.0, 1.0))
        return Grid((rows, columns), affine, y_up=True)

    def steps(self, depth: float = 0.0) -> tuple[F64, F64, F64]:
        """Return the voxel index of the first pixel's centre, and per row and column.

        ``depth`` is how many mm a plane of a slab lies from the middle one.
        """
        inverse = np.linalg.inv(self.volume.grid.matrix)
        a, _, x, _, e, y = self.grid.coefficients
        place, down, across = np.zeros(3), np.zeros(3), np.zeros(3)
        (along, _), (fall, _) = self.plane.columns, self.plane.rows
        place[along], place[fall], place[self.plane.across] = x + a / 2, y + e / 2, self.at + depth
        across[along], down[fall] = a, e
        turn = inverse[:3, :3]
        return turn @ place + inverse[:3, 3], turn @ down, turn @ across

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer a window of the slice; of a slab, the projection of its planes."""
        values = np.zeros((len(bands), *extent(window)), self.dtype)
        mask = np.zeros(values.shape, bool)
        for k, band in enumerate(bands):
            frame = self.frames[band]
            if len(self.depths) == 1:
                self._cut(frame, window, self.depths[0], values[k], mask[k])
                continue
            through = self._projected if self.resample == "nearest" else self._through
            put(through(frame, window), values[k], mask[k])
        return Pixels(values, mask=None if mask.all() else mask)

    def _through(self, frame: int, window: Window) -> NDArray[Any]:
        """Return the projection along the normal, sampled at each depth; NaN where nothing is."""
        out = np.full(extent(window), np.nan, value_dtype(self.dtype))
        origin, down, across = self.steps(self.depths[0])
        step = self.steps(self.depths[1])[0] - origin
        origin = origin + window[0][0] * down + window[1][0] * across
        count, kind = len(self.depths), WAYS.index(self.project)
        needed = self._needed(origin, down, across, out.shape, step * (count - 1))
        if needed is None:
            return out
        cube, way = self.volume.in_memory(frame), slice(None, None, -1)
        if cube is None:
            cube = voxels_to_cut(self.volume, frame, needed)
            origin = origin - np.array([a for a, _ in needed], float)
        elif cube.flags.f_contiguous and not cube.flags.c_contiguous:
            cube, way = cube.T, slice(None)
        cut = slab.choose(out.size * count)

        def one(rows: slice) -> None:
            begin = origin + rows.start * down
            cut(cube, begin[way], down[way], across[way], step[way], count, kind, out[rows])

        in_parallel(row_parts(len(out), out.shape[1] * count, 50_000), lambda: one)
        return out

    def _floats(self, frame: int, window: Window, depth: float) -> NDArray[Any]:
        """Return one plane of a slab, NaN where it is invalid."""
        numbers = np.zeros(extent(window), value_dtype(self.dtype))
        seen = np.zeros(numbers.shape, bool)
        self._cut(frame, window, depth, numbers, seen)
        return np.where(seen, numbers, numbers.dtype.type(np.nan))

    def _projected(self, frame: int, window: Window) -> NDArray[Any]:
        """Return the projection of what is valid, plane after plane; NaN where nothing is."""
        planes = (self._floats(frame, window, depth) for depth in self.depths)
        if self.project != "mean":
            way = np.fmax if self.project == "maximum" else np.fmin
            found = next(planes)
            for plane in planes:
                way(found, plane, out=found)
            return found
        total, count = np.zeros(extent(window)), np.zeros(extent(window), np.int32)
        for plane in planes:
            valid = ~np.isnan(plane)
            total += np.where(valid, plane, 0)
            count += valid
        return np.where(count > 0, total / np.maximum(count, 1), np.nan)

    def _cut(
        self, frame: int, window: Window, depth: float, values: NDArray[Any],
        mask: NDArray[np.bool_],
    ) -> None:  # fmt: skip
        """Fill one plane of one frame; what is not reached stays 0 and invalid."""
        origin, down, across = self.steps(depth)
        (top, _), (left, _) = window
        origin = origin + top * down + left * across
        needed = self._needed(origin, down, across, values.shape)
        if needed is None:
            return
        held = self.volume.in_memory(frame) if window_area(needed) > _THICK * values.size else None
        if held is not None:  # the box around an oblique plane is nearly the volume: not copied
            self._gather(held, origin, down, across, values, mask)
            return
        cube = voxels_to_cut(self.volume, frame, needed)
        start = origin - np.array([a for a, _ in needed], float)
        if self.resample != "nearest" and stored.choose(values.size) is stored_reference:
            out = np.empty(values.shape, cube.dtype)
            if along_axes(cube, start[::-1], down[::-1], across[::-1], out):
                put(out, values, mask)
                return
        self._gather(cube, start, down, across, values, mask)

    def _gather(
        self, cube: NDArray[Any], start: F64, down: F64, across: F64, values: NDArray[Any],
        mask: NDArray[np.bool_],
    ) -> None:  # fmt: skip
        """Fill a plane from (k, j, i); an array that lies as (i, j, k) is taken as it lies."""
        cut = _nearest if self.resample == "nearest" else stored.choose(values.size)
        way = slice(None, None, -1)
        if cube.flags.f_contiguous and not cube.flags.c_contiguous:
            cube, way = cube.T, slice(None)

        def one(rows: slice) -> None:
            begin = start + rows.start * down
            cut(cube, begin[way], down[way], across[way], values[rows], mask[rows])

        in_parallel(row_parts(len(values), values.shape[1], 50_000), lambda: one)

    def _needed(
        self, origin: F64, down: F64, across: F64, shape: tuple[int, ...], through: Any = 0.0
    ) -> Window | None:
        """Return the voxels that a piece of the plane takes taps from, moved ``through`` too."""
        corners = np.array([origin + r * down + c * across + d * through for d in (0.0, 1.0)
                            for r in (0, shape[0] - 1) for c in (0, shape[1] - 1)])  # fmt: skip
        window = []
        for low, high, length in zip(corners.min(0), corners.max(0), self.volume.shape,
                                     strict=True):  # fmt: skip
            first, last = max(0, int(np.floor(low))), min(length, int(np.floor(high)) + 2)
            if first >= last:
                return None
            window.append((first, last))
        return tuple(window)


def _nearest(
    volume: NDArray[Any], origin: F64, down: F64, across: F64, values: NDArray[Any],
    mask: NDArray[np.bool_],
) -> None:  # fmt: skip
    numbers = np.empty(values.shape, value_dtype(values.dtype))
    nearest_voxels(volume, origin, down, across, numbers)
    put(numbers, values, mask)


class StoredPlane(Derived, FullSource):
    """One stored plane of a volume, its voxels as they are, turned the way it is looked at."""

    def __init__(
        self, volume: Source, plane: SlicePlane, index: int, *, frames: Sequence[int] = ()
    ) -> None:
        super().__init__(volume, keep=_OF_VOLUMES)
        self.volume, self.plane = volume, plane
        self.frames = tuple(frames) or tuple(range(len(volume.bands)))
        axes = aligned_axes(volume.grid)
        self.cut, self.along, self.down = (
            axes[plane.across], axes[plane.columns[0]], axes[plane.rows[0]],
        )  # fmt: skip
        length = volume.shape[self.cut]
        if not 0 <= index < length:
            raise GridMismatch(
                f"{plane.name} plane {index} is not in the volume, which has 0 to {length - 1}"
            )
        self.index = int(index)
        self.bands = tuple(volume.bands[k] for k in self.frames)
        self.back = tuple(self._backward(axis, way) for axis, way in (plane.columns, plane.rows))
        self.grid = self._grid()
        self.block_shape = self.grid.shape
        self.metadata = {"slice": {"plane": plane.name, "index": self.index,
                                   "labels": plane.labels}}  # fmt: skip

    def _backward(self, patient: int, way: int) -> bool:
        """Tell whether the stored axis runs the other way than the picture's."""
        voxel = aligned_axes(self.volume.grid)[patient]
        return bool(self.volume.grid.matrix[patient, voxel] * way < 0)

    def _grid(self) -> Grid:
        matrix, shape = self.volume.grid.matrix, self.volume.shape
        spacing = np.linalg.norm(matrix[:3, :3], axis=0)
        low, high = reach(self.volume.grid)
        (x_axis, way), (y_axis, fall) = self.plane.columns, self.plane.rows
        x = high[x_axis] if way < 0 else low[x_axis]
        y = high[y_axis] if fall < 0 else low[y_axis]
        affine = ((way * float(spacing[self.along]), 0.0, float(x)),
                  (0.0, fall * float(spacing[self.down]), float(y)), (0.0, 0.0, 1.0))  # fmt: skip
        return Grid((shape[self.down], shape[self.along]), affine, y_up=True)

    def read_native(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from the stored plane."""
        wanted: list[tuple[int, int]] = [(0, 0)] * 3
        wanted[self.cut] = (self.index, self.index + 1)
        for axis, pair, back in ((self.along, window[1], self.back[0]),
                                 (self.down, window[0], self.back[1])):  # fmt: skip
            length = self.volume.shape[axis]
            wanted[axis] = (length - pair[1], length - pair[0]) if back else pair
        pixels = self.volume.read([self.frames[k] for k in bands], tuple(wanted))
        order = (0, 1 + self.down, 1 + self.along, 1 + self.cut)
        turn = (slice(None), *(slice(None, None, -1 if back else 1) for back in self.back[::-1]))
        mask = pixels.mask
        if mask is not None:
            mask = np.broadcast_to(mask, (len(mask), *pixels.values.shape[1:]))
            mask = mask.transpose(order)[..., 0][turn]
        return Pixels(pixels.values.transpose(order)[..., 0][turn], mask=mask, rules=pixels.rules)


def cut(
    volume: Source, plane: str, *, at: float | None = None, index: int | None = None,
    frames: Sequence[int] = (), side: str = "radiological", slab: float = 0.0,
    project: str = "maximum", resample: str | None = None, axes: str = "patient",
) -> Source:  # fmt: skip
    """Return a slice of a volume: at a millimetre (trilinear), or a stored plane by its index.

    ``resample`` ``nearest`` mixes no voxels: the default for labels. ``axes`` ``own`` cuts along
    the volume's own axes, ``at`` in mm along them.

    Neither: through the middle. ``slab`` is a thickness in mm that is projected. Raises
    GridMismatch, with the extent, for one outside.
    """
    if at is not None and index is not None:
        raise LookError("slice: give at in mm, or index; not both")
    if axes not in AXES:
        raise LookError(f"axes {axes!r}: expected {' or '.join(AXES)}")
    if axes == "own":
        volume = seen_along(volume, own_turn(volume.grid))
    chosen = SlicePlane.of(plane, side)
    if index is not None:
        if slab:
            raise LookError("slice: a slab is cut at a millimetre, not at an index")
        return StoredPlane(volume, chosen, index, frames=frames)
    return Slice(volume, chosen, at, frames=frames, slab=slab, project=project, resample=resample)
