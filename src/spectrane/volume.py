"""The public face of a volume: every method forwards to a free function below."""

from __future__ import annotations

import os
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from spectrane.analysis.fills import tell_fills
from spectrane.analysis.statistics import band_statistics
from spectrane.engine.described import Described
from spectrane.engine.memory import parts_first
from spectrane.engine.threads import Progress, no_progress
from spectrane.engine.volumes import LoadedVolume, VolumeSource
from spectrane.formats.table import writer_for
from spectrane.model.band import Band, BandName, find_bands, numbered
from spectrane.model.errors import FormatError, GridMismatch, MetadataError
from spectrane.model.faced import Faced
from spectrane.model.grid import Grid
from spectrane.model.look import Look, look_of
from spectrane.model.nodata import NoDataRule, nodata_value
from spectrane.model.physical import physical as to_physical
from spectrane.model.pixels import Pixels
from spectrane.model.source import deep_source_of
from spectrane.model.view import half_open
from spectrane.model.window import Window, relative, whole
from spectrane.raster import Raster
from spectrane.spatial.described import with_nodata
from spectrane.spatial.subset import Subset

if TYPE_CHECKING:
    import pandas

    from spectrane.analysis.description import Description
    from spectrane.analysis.histogram import Histogram
    from spectrane.analysis.statistics import BandStatistics
    from spectrane.analysis.thresholds import Threshold

Span = tuple[int, int] | None


@dataclass(frozen=True)
class Frame:
    """One volume of a file: its name, its unit, how stored numbers become physical ones, when.

    ``time`` is in seconds, None where frames are no times.
    """

    name: str
    unit: str | None = None
    scale: float = 1.0
    offset: float = 0.0
    time: float | None = None


class Volume(Faced):
    """Voxels with a place in the patient (RAS+ millimetres), not read yet.

    Made by ``spectrane.open`` or ``volume_from_array``. Frames are counted from 1, voxel indices
    i, j and k from 0. A volume is a context manager, and can be pickled.

    >>> import numpy as np
    >>> volume = volume_from_array(np.arange(24).reshape(2, 3, 4), affine=np.diag([2, 2, 3, 1]))
    >>> volume.shape, volume.spacing
    ((1, 2, 3, 4), (2.0, 2.0, 3.0))
    >>> volume.slice("axial", index=1).pixels()[0].tolist()
    [[21, 9], [17, 5], [13, 1]]
    """

    @property
    def frames(self) -> tuple[Frame, ...]:
        """The volumes there are: over time, or of several measures."""
        return tuple(Frame(b.name, b.unit, b.scale, b.offset, b.time) for b in self._source.bands)

    @property
    def affine(self) -> NDArray[np.float64]:
        """The 4x4 matrix from (i, j, k) of a voxel's centre to patient millimetres."""
        return self._source.grid.matrix

    @property
    def shape(self) -> tuple[int, ...]:
        """(frames, i, j, k)."""
        return (len(self._source.bands), *self._source.shape)

    @property
    def spacing(self) -> tuple[float, ...]:
        """Millimetres between voxels along i, j and k."""
        return self._source.grid.pixel_size

    @property
    def window(self) -> tuple[float, float] | None:
        """The display range kept with the file (low, high), or None; its first window's, say."""
        from spectrane.display.plan import kept_range

        return kept_range(self._source)

    def describe(self, *, statistics: bool = False) -> Description:
        """Return a description that prints well; with ``statistics`` every voxel is read."""
        from spectrane.analysis.volume_description import describe_volume

        return describe_volume(self._source, self._statistics(None) if statistics else ())

    def slice(
        self, plane: str, *, at: float | None = None, index: int | None = None,
        frame: BandName | None = None, side: str = "radiological", slab: float = 0.0,
        project: str = "maximum", axes: str = "patient",
    ) -> Raster:  # fmt: skip
        """Return a slice: ``axial``, ``coronal`` or ``sagittal``; see ``spatial.slicing.cut``.

        ``at`` is in mm, ``index`` a stored plane; neither: the middle. ``frame`` None: every frame
        is a band. ``slab`` mm are projected (``maximum``, ``minimum``, ``mean``). ``axes`` ``own``
        cuts along the volume's own axes, ``at`` in mm along them.
        """
        from spectrane.spatial.slicing import cut

        frames = () if frame is None else find_bands(self._source.bands, frame)
        return Raster(cut(self._source, plane, at=at, index=index, frames=frames, side=side,
                          slab=slab, project=project, axes=axes))  # fmt: skip

    def voxels(
        self, frame: BandName = 1, *, i: Span = None, j: Span = None, k: Span = None,
        physical: bool = True,
    ) -> np.ma.MaskedArray[Any, Any]:  # fmt: skip
        """Return (i, j, k) of one frame, invalid voxels masked; half-open pairs bound it."""
        band = find_bands(self._source.bands, frame)[0]
        pixels = self._source.read([band], self._window(i, j, k))
        values = np.array(pixels.values[0])
        if physical:
            values = to_physical(values, self._source.bands[band])
        return np.ma.MaskedArray(values, ~pixels.validity[0])

    def _masked_array(self) -> np.ma.MaskedArray[Any, Any]:
        return self.voxels()

    def load(self) -> Volume:
        """Return the volume held in memory, for work that comes back to it."""
        return Volume(LoadedVolume(self._source))

    def with_nodata(self, nodata: Any, *, when: str | None = None) -> Volume:
        """Return the volume under another no-data rule: see ``spatial.described.with_nodata``."""
        return Volume(with_nodata(self._source, nodata, when))

    def convert(self, unit: str) -> Volume:
        """Return the volume in another unit (``HU``, ``mm``): see ``spatial.converted.in_unit``."""
        from spectrane.spatial.converted import in_unit

        return Volume(in_unit(self._source, unit))

    def crop(self, *, i: Span = None, j: Span = None, k: Span = None) -> Volume:
        """Return a part: half-open pairs of voxel indices."""
        bands = range(len(self._source.bands))
        return Volume(Subset(self._source, bands, self._window(i, j, k)))

    def select(self, frames: BandName | Iterable[BandName]) -> Volume:
        """Return some frames, in the order named."""
        indices = find_bands(self._source.bands, frames)
        return Volume(Subset(self._source, indices, whole(self._source.shape)))

    def regrid(
        self, like: Volume | Grid, *, resample: str | None = None, force: bool = False
    ) -> Volume:
        """Return the volume on another one's voxels: ``trilinear``, or ``nearest`` (labels).

        Labels are mixed only with ``force``.
        """
        from spectrane.spatial.volumetric import RegriddedVolume

        grid = like if isinstance(like, Grid) else deep_source_of(like).grid
        return Volume(RegriddedVolume(self._source, grid, resample, force))

    def masked(self, by: Volume | Threshold | str, *, outside: bool = False) -> Volume:
        """Return the volume with only some voxels valid: where ``by`` is.

        ``by`` is another volume (valid and not 0, on its own grid), an array of this one's voxels,
        or a test of its own numbers: a ``Threshold``, or an expression such as ``"abs(t) >= 5"``.
        ``outside`` keeps the rest instead.
        """
        from spectrane.analysis.thresholds import Kept, Threshold
        from spectrane.spatial.masked_volume import MaskedVolume

        if isinstance(by, str | Threshold):
            return Volume(Kept(self._source, by, inverted=outside))
        if isinstance(by, np.ndarray):
            if by.shape != self._source.shape:
                raise GridMismatch(
                    f"masked: an array of {by.shape} for {self._source.shape} voxels"
                )
            by = volume_from_array(by, affine=self.affine)
        return Volume(MaskedVolume(self._source, deep_source_of(by), inverted=outside))

    def as_labels(self, names: Mapping[int, str] | None = None) -> Volume:
        """Return the volume as labels: whole numbers that name parts, each with a colour.

        0 is the background. Labels that ``names`` does not list are found by reading every voxel.
        Between voxels nothing is mixed then. Raises MetadataError for other numbers.
        """
        from spectrane.analysis.labels import labels_in
        from spectrane.model.labels import label_classes

        classes = label_classes(labels_in(self._source), names)
        return Volume(Described(self._source, look=Look(classes=classes)))

    def with_look(self, look: Look) -> Volume:
        """Return the volume with other display defaults."""
        return Volume(Described(self._source, look=look_of(look)))

    def profile(self, points: Any = None, *, region: Volume | None = None) -> pandas.DataFrame:
        """Return a value by frame at each point, or the mean and σ over a region.

        ``points`` is as for ``spectrane.probe``; ``region`` a volume that is valid and not 0 where
        voxels count. Columns: ``zone frame number time unit count mean std min max``.
        """
        import pandas

        from spectrane.display.volume_probing import frame_profile

        return pandas.DataFrame(
            frame_profile(self._source, points, None if region is None else region._source)
        )

    def statistics(self, frames: Any = None, *, by: Volume | None = None) -> pandas.DataFrame:
        """Return exact statistics of valid voxels, a row per frame, in physical values.

        ``by`` is a volume of labels: a row per label and frame then, with mean, σ and extent.
        """
        import pandas

        if by is not None:
            from spectrane.analysis.labels import label_statistics

            indices = find_bands(self._source.bands, frames)
            rows = label_statistics(self._source, indices, by._source)
            return pandas.DataFrame(rows).set_index(["label", "frame"])
        measured = self._statistics(frames)
        ends = [(one.min, one.max) for one in measured]
        tell_fills(self._source, find_bands(self._source.bands, frames), ends)
        found = pandas.DataFrame(measured)
        return found.rename(columns={"band": "frame"}).set_index("frame")

    def _statistics(self, frames: Any) -> list[BandStatistics]:
        indices = find_bands(self._source.bands, frames)
        return band_statistics(self._source, indices, None, no_progress)

    def histogram(self, frames: Any = None, *, bins: int | str = "auto") -> Histogram:
        """Return counts and edges per frame: see ``analysis.histogram.band_histogram``."""
        from spectrane.analysis.histogram import band_histogram

        indices = find_bands(self._source.bands, frames)
        found = band_histogram(self._source, indices, None, bins=bins)
        tell_fills(self._source, indices, found.ends)
        return found

    def save(
        self, path: str | os.PathLike[str], *, overwrite: bool = False,
        progress: Progress | None = None, **options: Any,
    ) -> None:  # fmt: skip
        """Write the voxels to a ``.nii`` or ``.nii.gz`` file."""
        name = os.fspath(path).lower()
        writer = writer_for(path)
        if not name.endswith((".nii", ".nii.gz")):
            raise FormatError(f"{os.fspath(path)}: volumes are written as .nii or .nii.gz")
        writer(self._source, path, overwrite=overwrite, progress=progress or no_progress, **options)

    def _window(self, i: Span, j: Span, k: Span) -> Window:
        asked = tuple(
            (0, n) if pair is None else half_open(axis, pair)
            for axis, pair, n in zip("ijk", (i, j, k), self._source.shape, strict=True)
        )
        if any(a >= b for a, b in asked):
            raise GridMismatch(f"voxels: expected start < stop along each axis, not {asked}")
        return self._source.checked(asked)

    def __repr__(self) -> str:
        frames, i, j, k = self.shape
        name = os.path.basename(self.source) or self.format
        return f"<Volume {name}: {frames} frames, {i} x {j} x {k} voxels, {self.dtype}>"

    def _repr_html_(self) -> str:
        return self.describe()._repr_html_()


class HeldVolume(VolumeSource):
    """Frames held as an array (frames, i, j, k)."""

    def __init__(self, values: NDArray[Any], grid: Grid, bands: Sequence[Band]) -> None:
        if values.dtype.kind not in "biuf" or values.dtype.itemsize > 8:
            raise MetadataError(f"array: expected integers or floats up to 64 bits: {values.dtype}")
        self._values, self.grid, self.bands = values, grid, tuple(bands)
        self.dtype = values.dtype.newbyteorder("=")
        i, j, k = values.shape[1:]
        self.block_shape = (i, j, max(1, min(k, (1 << 20) // max(1, i * j))))

    def in_memory(self, band: int) -> NDArray[Any] | None:
        """Return a frame (k, j, i) as it is held; None where some number means no-data."""
        held = self._values[band]
        nothing = self.bands[band].rule != NoDataRule()
        return None if nothing or held.dtype != self.dtype else held.T

    def at_full(self, bands: Sequence[int], window: Window) -> Pixels:
        """Answer from memory."""
        i, j, k = relative(window, whole(self.shape))
        part = self._values[list(bands)][:, i, j, k].astype(self.dtype, copy=False)
        return Pixels(part, rules=[self.bands[band].rule for band in bands])


def volume_from_array(
    array: ArrayLike, *, affine: ArrayLike, frames: Sequence[Frame | str] | None = None,
    nodata: Any = None, frame_axis: int | None = None,
) -> Volume:  # fmt: skip
    """Return a volume of an array (i, j, k) or (frames, i, j, k), not copied.

    ``affine`` (4x4) takes (i, j, k) of a voxel's centre to patient millimetres (RAS+). ``nodata``
    is a stored number that means nothing. ``frame_axis`` says which of four axes holds the frames
    (the first). Raises MetadataError where they do not fit.
    """
    from dataclasses import replace

    values = np.asarray(array)
    values = values[np.newaxis] if values.ndim == 3 else values
    if values.ndim == 4:
        values = parts_first(values, frame_axis, "frames", "frame_axis")
    if values.ndim != 4 or 0 in values.shape:
        raise MetadataError(f"array: expected (i, j, k) or (frames, i, j, k), not {values.shape}")
    matrix = tuple(map(tuple, np.asarray(affine, float).tolist()))
    grid = Grid(values.shape[1:], matrix, placed=True)
    bands: list[Band] = list(numbered(len(values)))
    if frames is not None:
        named = [one if isinstance(one, Frame) else Frame(str(one)) for one in frames]
        if len(named) != len(values):
            raise MetadataError(f"frames: {len(named)} named, {len(values)} in the array")
        bands = [Band(f.name, unit=f.unit, scale=f.scale, offset=f.offset, time=f.time)
                 for f in named]  # fmt: skip
    bands = [replace(band, nodata=nodata_value(nodata)) for band in bands]
    return Volume(HeldVolume(values, grid, bands))
