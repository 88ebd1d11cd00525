"""The public face of a volume: what is said of it, read from it, and made of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, Literal

import numpy as np
from numpy.typing import NDArray

from spectrane.analysis.fills import tell_fills
from spectrane.analysis.statistics import band_statistics
from spectrane.dataset import DatasetFace
from spectrane.engine.bars import ProgressLike, told_progress
from spectrane.engine.described import Described
from spectrane.engine.volumes import LoadedVolume
from spectrane.formats.table import writer_for
from spectrane.kernels.quiet import quiet_methods
from spectrane.model.addresses import file_name
from spectrane.model.asking import GridLike, VolumePoints, as_tuple
from spectrane.model.band import BandName, find_bands
from spectrane.model.errors import FormatError, GridMismatch
from spectrane.model.frame import Frame
from spectrane.model.html import Listed, in_row, picture_html
from spectrane.model.look import Look
from spectrane.model.physical import as_stored
from spectrane.model.physical import physical as to_physical
from spectrane.model.source import deep_source_of
from spectrane.model.targets import Target, local_place
from spectrane.model.view import half_open
from spectrane.model.window import Window, whole
from spectrane.raster import Raster
from spectrane.spatial import described as _described
from spectrane.spatial.grids import grid_of
from spectrane.spatial.held import volume_source
from spectrane.spatial.subset import Subset

if TYPE_CHECKING:
    import pandas

    from spectrane.analysis.description import Description
    from spectrane.analysis.histogram import Histogram
    from spectrane.analysis.statistics import BandStatistics
    from spectrane.analysis.thresholds import Threshold
    from spectrane.model.asking import BandFields
    from spectrane.spatial.frames import OverFrames
    from spectrane.spatial.oblique import Oblique
    from spectrane.spatial.slicing import AnyPlane, Projection, Side, SliceAxes

Frames = BandName | Iterable[BandName] | None
"""Frames by number (from 1) or name; None: all of them."""
VolumeKernel = Literal["trilinear", "nearest"]


@quiet_methods
class Volume(DatasetFace):
    """Voxels with a place in the patient (RAS+ millimetres), not read yet.

    Made by ``spectrane.open`` or ``spectrane.volume_from_array``. Frames are counted from 1, voxel
    indices i, j and k from 0. A volume is a context manager, and can be pickled.

    >>> import numpy as np, spectrane as sp
    >>> volume = sp.volume_from_array(np.arange(24).reshape(2, 3, 4), affine=np.diag([2, 2, 3, 1]))
    >>> volume.shape, volume.spacing
    ((1, 2, 3, 4), (2.0, 2.0, 3.0))
    >>> volume.slice("axial", index=1).pixels()[0].tolist()
    [[21, 9], [17, 5], [13, 1]]
    """

    @property
    def frames(self) -> tuple[Frame, ...]:
        """The volumes there are: over time, or of several measures."""
        return Listed(Frame(b.name, b.unit, b.scale, b.offset, b.time, b.statistic)
                      for b in self._source.bands)  # fmt: skip

    @property
    def affine(self) -> NDArray[np.float64]:
        """The 4x4 matrix from (i, j, k) of a voxel's centre to patient millimetres."""
        return self._source.grid.matrix

    @property
    def shape(self) -> tuple[int, int, int, int]:
        """(frames, i, j, k)."""
        i, j, k = self._source.shape
        return len(self._source.bands), i, j, k

    @property
    def spacing(self) -> tuple[float, ...]:
        """Millimetres between voxels along i, j and k."""
        return self._source.grid.pixel_size

    @property
    def window(self) -> tuple[float, float] | None:
        """The display range kept with the file (low, high), or None; its first window's, say."""
        from spectrane.display.plan import kept_range

        return kept_range(self._source)

    def describe(self, *, statistics: bool = False, progress: ProgressLike = None) -> Description:
        """Return a description that prints well; with ``statistics`` every voxel is read.

        >>> import numpy as np, spectrane as sp
        >>> volume = sp.volume_from_array(np.zeros((2, 3, 4)), affine=np.eye(4))
        >>> volume.describe().to_dict()["voxels"]
        [2, 3, 4]
        """
        from spectrane.analysis.volume_description import describe_volume

        measured = self._statistics(None, progress) if statistics else ()
        return describe_volume(self._source, measured)

    def slice(
        self, plane: AnyPlane, *, at: float | None = None, index: int | None = None,
        frame: BandName | None = None, side: Side = "radiological", slab: float = 0.0,
        project: Projection = "maximum", axes: SliceAxes = "patient",
        oblique: Oblique | None = None,
    ) -> Raster:  # fmt: skip
        """Return a slice as a raster: at a millimetre (trilinear; labels nearest), or a stored one.

        ``at`` is in mm, ``index`` a stored plane from 0; neither: the middle. ``frame`` None: every
        frame is a band. ``side`` ``radiological`` has the patient's right on the left. ``slab`` mm
        are projected. ``axes`` ``own`` cuts along the volume's own axes, ``at`` in mm along them.
        The plane ``oblique`` is any: ``oblique=sp.Oblique(center, normal)``, or through three
        points. Raises GridMismatch, with the extent, for a slice outside.

        >>> import numpy as np, spectrane as sp
        >>> volume = sp.volume_from_array(np.arange(8).reshape(2, 2, 2), affine=np.eye(4))
        >>> volume.slice("axial", at=0.5).pixels().shape
        (1, 2, 2)
        """
        from spectrane.spatial.oblique import cut_oblique, oblique_asked
        from spectrane.spatial.slicing import cut

        frames = () if frame is None else find_bands(self._source.bands, frame)
        if oblique_asked(plane, oblique, at=at, index=index, axes=axes):
            assert oblique is not None
            return Raster(cut_oblique(self._source, oblique, frames=frames, side=side, slab=slab,
                                      project=project))  # fmt: skip
        return Raster(cut(self._source, plane, at=at, index=index, frames=frames, side=side,
                          slab=slab, project=project, axes=axes))  # fmt: skip

    def voxels(
        self, frame: BandName = 1, *, i: Sequence[int] | None = None,
        j: Sequence[int] | None = None, k: Sequence[int] | None = None, physical: bool = True,
    ) -> np.ma.MaskedArray[Any, Any]:  # fmt: skip
        """Return (i, j, k) of one frame, invalid voxels masked; half-open pairs bound it.

        Values are physical, in the frame's unit, or with ``physical=False`` as stored. Raises
        BandError for a frame there is not, GridMismatch for a part outside.

        >>> import numpy as np, spectrane as sp
        >>> volume = sp.volume_from_array(np.arange(8).reshape(2, 2, 2), affine=np.eye(4))
        >>> volume.voxels(i=(1, 2), j=(0, 1)).tolist()
        [[[4.0, 5.0]]]
        """
        band = find_bands(self._source.bands, frame)[0]
        pixels = self._source.read([band], self._window(i, j, k))
        values = np.array(pixels.values[0])
        if physical:
            values = to_physical(values, self._source.bands[band])
        elif values.dtype != self._source.stored_type:
            values = as_stored(np.where(pixels.validity[0], values, 0), self._source.stored_type)
        return np.ma.MaskedArray(values, ~pixels.validity[0])

    def _masked_array(self) -> np.ma.MaskedArray[Any, Any]:
        return self.voxels()

    def load(self) -> Volume:
        """Return the volume held in memory, for work that comes back to it.

        >>> import numpy as np, spectrane as sp
        >>> sp.volume_from_array(np.zeros((2, 3, 4)), affine=np.eye(4)).load().shape
        (1, 2, 3, 4)
        """
        return Volume(LoadedVolume(self._source))

    def crop(
        self, *, i: Sequence[int] | None = None, j: Sequence[int] | None = None,
        k: Sequence[int] | None = None,
    ) -> Volume:  # fmt: skip
        """Return a part: half-open pairs of voxel indices. Raises GridMismatch for one outside.

        >>> import numpy as np, spectrane as sp
        >>> sp.volume_from_array(np.zeros((4, 4, 4)), affine=np.eye(4)).crop(k=(1, 3)).shape
        (1, 4, 4, 2)
        """
        bands = range(len(self._source.bands))
        return Volume(Subset(self._source, bands, self._window(i, j, k)))

    def select(self, frames: Frames) -> Volume:
        """Return some frames, in the order named. Raises BandError for one there is not.

        >>> import numpy as np, spectrane as sp
        >>> volume = sp.volume_from_array(np.zeros((2, 3, 3, 3)), affine=np.eye(4),
        ...                               frames=["rest", "walk"])
        >>> volume.select("walk").frames[0].name
        'walk'
        """
        indices = find_bands(self._source.bands, frames)
        return Volume(Subset(self._source, indices, whole(self._source.shape)))

    def with_frames(self, frames: BandFields) -> Volume:
        """Return the same with frames described anew; nothing is read.

        ``frames`` is a mapping from number (from 1) or name to new fields: ``name``, ``unit``,
        ``scale``, ``offset``, ``nodata``, ``time`` (s), ``statistic``. Raises BandError for a frame
        there is not, MetadataError for what is no field.

        >>> import numpy as np, spectrane as sp
        >>> volume = sp.volume_from_array(np.zeros((2, 3, 4)), affine=np.eye(4))
        >>> volume.with_frames({1: {"name": "walk", "unit": "HU"}}).frames[0].unit
        'HU'
        """
        return Volume(_described.with_frames(self._source, frames))

    def compute(self, given: Mapping[str, str], *, unit: str | None = None) -> Volume:
        """Return computed frames alone: name -> expression over frames, in physical values.

        Frames are named by name, or by number as ``frame(1)``; ``unit`` is the answers'. They are
        float32 or float64, invalid where they have no number. Raises LookError for what is no
        expression, BandError for a frame there is not.

        >>> import numpy as np, spectrane as sp
        >>> held = sp.volume_from_array(np.arange(4.0).reshape(2, 1, 1, 2), affine=np.eye(4),
        ...                             frames=["before", "after"])
        >>> held.compute({"change": "after - before"}, unit="HU").voxels().tolist()
        [[[2.0, 2.0]]]
        """
        from spectrane.analysis.expressions import ComputedVolume

        return Volume(ComputedVolume(self._source, given, unit))

    def over_frames(self, way: OverFrames, frames: Frames = None) -> Volume:
        """Return one frame from all, or some: of each voxel's valid physical values.

        ``way`` is ``mean``, ``std`` (σ, which divides by N), ``min``, ``max``, ``median`` or
        ``range``. Raises LookError for another, BandError for a frame there is not.

        >>> import numpy as np, spectrane as sp
        >>> held = sp.volume_from_array(np.array([1.0, 4, 3]).reshape(3, 1, 1, 1), affine=np.eye(4))
        >>> held.over_frames("median").voxels().item(), held.over_frames("range").voxels().item()
        (3.0, 3.0)
        """
        from spectrane.spatial.frames import over_frames

        return Volume(over_frames(self._source, way, frames))

    def physical(self) -> Volume:
        """Return the volume with physical values as its numbers: floats, NaN where invalid.

        >>> import numpy as np, spectrane as sp
        >>> half = sp.Frame("dose", scale=0.5)
        >>> held = sp.volume_from_array(np.array([[[3]]]), affine=np.eye(4), frames=[half])
        >>> held.physical().voxels(physical=False).item()
        1.5
        """
        from spectrane.spatial.converted import PhysicalVolume

        return Volume(PhysicalVolume(self._source))

    def regrid(
        self, grid: GridLike, *, resample: VolumeKernel | None = None, force: bool = False
    ) -> Volume:
        """Return the volume on another one's voxels: ``trilinear``, or ``nearest`` (labels).

        ``grid`` is a volume's Grid, or anything that has one. Labels are mixed only with ``force``.
        Raises GridMismatch for the grid of a raster.

        >>> import numpy as np, spectrane as sp
        >>> fine = sp.volume_from_array(np.zeros((4, 4, 4)), affine=np.eye(4))
        >>> coarse = sp.volume_from_array(np.ones((2, 2, 2)), affine=np.diag([2, 2, 2, 1]))
        >>> coarse.regrid(fine).shape
        (1, 4, 4, 4)
        """
        from spectrane.spatial.volumetric import RegriddedVolume

        target = grid_of(grid)
        if len(target.shape) != 3:
            raise GridMismatch("regrid: a raster's grid is no volume's; expected that of a volume")
        return Volume(RegriddedVolume(self._source, target, resample, force))

    def masked(
        self, by: Volume | Threshold | NDArray[Any] | str, *, outside: bool = False
    ) -> Volume:
        """Return the volume with only some voxels valid: where ``by`` is.

        ``by`` is another volume (valid and not 0, on its own grid), an array of this one's voxels,
        or a test of its own numbers: a ``Threshold``, or an expression such as ``"abs(t) >= 5"``.
        ``outside`` keeps the rest instead. Raises GridMismatch for an array of another shape.

        >>> import numpy as np, spectrane as sp
        >>> volume = sp.volume_from_array(np.arange(8).reshape(2, 2, 2), affine=np.eye(4))
        >>> int(volume.masked("band(1) > 5").voxels().count())
        2
        """
        from spectrane.analysis.thresholds import Threshold, Thresholded
        from spectrane.spatial.masked_volume import MaskedVolume

        if isinstance(by, str | Threshold):
            return Volume(Thresholded(self._source, by, inverted=outside))
        if isinstance(by, np.ndarray):
            if by.shape != self._source.shape:
                raise GridMismatch(
                    f"masked: an array of {by.shape} for {self._source.shape} voxels"
                )
            mask = volume_source(by, affine=self.affine)
        else:
            mask = deep_source_of(by)
        return Volume(MaskedVolume(self._source, mask, inverted=outside))

    def as_labels(self, names: Mapping[int, str] | None = None) -> Volume:
        """Return the volume as labels: whole numbers that name parts, each with a colour.

        0 is the background. Labels that ``names`` does not list are found by reading every voxel.
        Labels are never interpolated. Raises MetadataError for other numbers.

        >>> import numpy as np, spectrane as sp
        >>> parts = sp.volume_from_array(np.array([[[0, 1, 2]]], np.uint8), affine=np.eye(4))
        >>> [label for _, label in parts.as_labels({1: "bone"}).look.classes.values()]
        ['background', 'bone', '2']
        """
        from spectrane.analysis.labels import labels_in
        from spectrane.model.labels import label_classes

        classes = label_classes(labels_in(self._source), names)
        return Volume(Described(self._source, look=Look(classes=classes)))

    def profile(
        self, points: VolumePoints | None = None, *,
        region: Volume | Mapping[str, Volume] | None = None, labels: Volume | None = None,
        names: Sequence[str | int] | None = None,
    ) -> pandas.DataFrame:  # fmt: skip
        """Return a value by frame at each point, or the mean and σ over regions or labels.

        ``points`` are as for ``spectrane.probe``, or ``(i, j, k)`` of whole numbers, or
        ``(x, y, z)`` in mm of others: one, a list, or an array. ``region`` is a volume that is
        valid and not 0 where voxels count, or several by name; ``labels`` one whose labels
        (``names`` or numbers; None: all) are zones each, brought to these voxels by the nearest.
        Columns: ``zone frame number time unit count mean std min max``. Raises LookError unless one
        of them is given, and for a label there is not, GridMismatch for what lies outside.

        >>> import numpy as np, spectrane as sp
        >>> held = sp.volume_from_array(np.arange(8.0).reshape(2, 1, 2, 2), affine=np.eye(4))
        >>> held.profile((0, 1, 0))["mean"].tolist()
        [2.0, 6.0]
        """
        import pandas

        from spectrane.display.volume_probing import frame_profile

        regions = {"region": region} if isinstance(region, Volume) else region
        return pandas.DataFrame(frame_profile(
            self._source, points,
            None if regions is None else {n: one._source for n, one in regions.items()},
            None if labels is None else labels._source, names,
        ))  # fmt: skip

    def statistics(self, frames: Frames = None, *, by: Volume | None = None) -> pandas.DataFrame:
        """Return exact statistics of valid voxels, a row per frame, in physical values.

        ``by`` is a volume of labels: a row per label and frame then, with mean, σ and extent.

        >>> import numpy as np, spectrane as sp
        >>> held = sp.volume_from_array(np.arange(8.0).reshape(2, 2, 2), affine=np.eye(4))
        >>> held.statistics()["max"].tolist()
        [7.0]
        """
        import pandas

        if by is not None:
            from spectrane.analysis.labels import label_statistics

            indices = find_bands(self._source.bands, frames)
            rows = label_statistics(self._source, indices, by._source)
            return pandas.DataFrame(rows).set_index(["label", "frame"])
        measured = self._statistics(frames)
        ends = [(frame.min, frame.max) for frame in measured]
        tell_fills(self._source, find_bands(self._source.bands, frames), ends)
        table = pandas.DataFrame(measured)
        return table.rename(columns={"band": "frame"}).set_index("frame")

    def _statistics(self, frames: Frames, progress: ProgressLike = None) -> list[BandStatistics]:
        indices = find_bands(self._source.bands, frames)
        return band_statistics(self._source, indices, None, told_progress(progress))

    def histogram(
        self, frames: Frames = None, *, bins: int | Literal["auto"] = "auto"
    ) -> Histogram:
        """Return counts and edges per frame, in physical values; ``bins`` as ``Raster.histogram``.

        >>> import numpy as np, spectrane as sp
        >>> held = sp.volume_from_array(np.array([[[0, 0, 1]]], np.uint8), affine=np.eye(4))
        >>> held.histogram().counts[0][:2].tolist()
        [2, 1]
        """
        from spectrane.analysis.histogram import band_histogram

        indices = find_bands(self._source.bands, frames)
        counted = band_histogram(self._source, indices, None, bins=bins)
        tell_fills(self._source, indices, counted.ends)
        return counted

    def save(
        self, path: Target, *, overwrite: bool = False, progress: ProgressLike = None,
        version: Literal[1, 2] | None = None, ending: str | None = None,
        storage_options: Mapping[str, Any] | None = None,
    ) -> None:  # fmt: skip
        """Write the voxels to a ``.nii`` or ``.nii.gz`` file (NIfTI of ``version`` 1 or 2).

        ``path`` may be an fsspec URL, with ``storage_options``, or an open binary file, whose
        format ``ending`` says. Raises FormatError for another ending, ExistingFile, AccessError; a
        file is written whole or not at all.

        >>> import numpy as np, spectrane as sp, tempfile, os
        >>> with tempfile.TemporaryDirectory() as folder:
        ...     path = os.path.join(folder, "ones.nii.gz")
        ...     sp.volume_from_array(np.ones((2, 3, 4), np.uint8), affine=np.eye(4)).save(path)
        ...     sp.open(path).shape
        (1, 2, 3, 4)
        """
        with local_place(path, ending=ending, overwrite=overwrite,
                         storage_options=storage_options) as place:  # fmt: skip
            writer = writer_for(place)
            if not place.lower().endswith((".nii", ".nii.gz")):
                raise FormatError(f"{place}: volumes are written as .nii or .nii.gz")
            writer(self._source, place, overwrite=overwrite, progress=told_progress(progress),
                   version=version)  # fmt: skip

    def _window(
        self, i: Sequence[int] | None, j: Sequence[int] | None, k: Sequence[int] | None
    ) -> Window:
        asked = tuple(
            (0, n) if pair is None else half_open(axis, as_tuple(pair))
            for axis, pair, n in zip("ijk", (i, j, k), self._source.shape, strict=True)
        )
        if any(a >= b for a, b in asked):
            raise GridMismatch(f"voxels: expected start < stop along each axis, not {asked}")
        return self._source.checked(asked)

    def __repr__(self) -> str:
        frames, i, j, k = self.shape
        name = file_name(self.source) or self.format
        return f"<Volume {name}: {frames} frames, {i} x {j} x {k} voxels, {self.dtype}>"

    def _repr_html_(self) -> str:
        from spectrane.display.thumbnails import small_planes

        small = small_planes(self._source)
        picture = "" if small is None else picture_html(small, f"{self.title}, three planes")
        return in_row(picture, self.describe()._repr_html_())
