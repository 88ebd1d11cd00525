"""Volumes as layers: what is shown of each, and where its statistic lets it be shown."""

from __future__ import annotations

from dataclasses import KW_ONLY, dataclass, replace
from typing import TYPE_CHECKING, Any

from spectrane.analysis.clusters import Cluster, Neighbours, OfSize, check_neighbours, find_clusters
from spectrane.analysis.thresholds import Threshold, Thresholded
from spectrane.display.layers import Layer, check_opacity
from spectrane.display.outlines import LayerBase
from spectrane.display.plan import RenderPlan, resolve
from spectrane.kernels.blending import MODES, BlendMode
from spectrane.model.asking import SourceLike
from spectrane.model.band import BandName, find_bands
from spectrane.model.errors import GridMismatch, LookError, nearest
from spectrane.model.look import Look, look_of
from spectrane.model.source import Source, source_of
from spectrane.spatial.mosaics.inputs import called


@dataclass(frozen=True)
class VolumeLayer(LayerBase):
    """A volume to be looked at, and how: its look, opacity, and where it is shown at all.

    ``frame`` is shown; ``threshold`` (an expression over its frames, or a ``Threshold``) keeps what
    passes, tested on the volume's own voxels; ``least`` leaves out smaller groups, counted in
    voxels or ``in_mm3``, of voxels that are ``neighbours`` by faces (6), edges (18) or corners
    (26). ``faded`` shows what fails too, at that share of the opacity, with an outline at the
    threshold. Raises LookError for a number or a word that is none, GridMismatch for a raster.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.ones((2, 2, 2)), affine=np.eye(4))
    >>> sp.VolumeLayer(held, threshold="band(1) > 0", least=20, name="map").title
    'map'
    """

    source: Source
    look: Look | None = None
    _: KW_ONLY
    opacity: float = 1.0
    visible: bool = True
    threshold: Threshold | str | None = None
    frame: BandName = 1
    least: float = 0
    in_mm3: bool = False
    neighbours: Neighbours = 26
    faded: float = 0.0
    name: str | None = None
    mode: BlendMode = "normal"

    if TYPE_CHECKING:  # what is given may be a raster; what is held is its source

        def __init__(
            self, source: SourceLike, look: Look | None = None, *, opacity: float = 1.0,
            visible: bool = True, threshold: Threshold | str | None = None, frame: BandName = 1,
            least: float = 0, in_mm3: bool = False, neighbours: Neighbours = 26,
            faded: float = 0.0, name: str | None = None, mode: BlendMode = "normal",
        ) -> None: ...  # fmt: skip

    def __post_init__(self) -> None:
        """Check numbers and names."""
        object.__setattr__(self, "source", source_of(self.source))
        look_of(self.look)
        check_opacity(self.opacity)
        if not 0 <= self.faded < 1:
            raise LookError(f"faded {self.faded}: expected 0 up to 1")
        if not isinstance(self.threshold, str | Threshold | None):
            raise LookError(f"threshold {self.threshold!r}: expected an expression such as "
                            "'abs(t) >= 5', or a Threshold")  # fmt: skip
        if self.faded and self.threshold is None:
            raise LookError("faded: what fails a threshold is faded; give one")
        if not 0 <= self.least < float("inf"):
            raise LookError(f"least {self.least}: expected 0 or more voxels or mm3")
        check_neighbours(self.neighbours)
        if self.mode not in MODES:
            raise LookError(f"mode {self.mode!r}{nearest(self.mode, MODES)}")
        if len(self.source.shape) != 3:
            raise GridMismatch(f"{called(self.source)}: is no volume; slices are cut from volumes")

    @property
    def title(self) -> str:
        """The layer's name, or its file's."""
        return self.name or called(self.source)


def volume_layer(given: object) -> VolumeLayer:
    """Return a volume layer of a volume, a (volume, look) pair, or a layer of one."""
    if isinstance(given, VolumeLayer):
        return given
    if isinstance(given, Layer):
        return VolumeLayer(given.source, given.look, opacity=given.opacity, visible=given.visible,
                           threshold=given.threshold, name=given.name, mode=given.mode)  # fmt: skip
    parts: Any = given
    return VolumeLayer(*parts) if isinstance(parts, tuple) else VolumeLayer(parts)


def planned_volume(layer: VolumeLayer) -> RenderPlan:
    """Resolve how a volume's frame is shown, from all of it: every slice of it is shown alike."""
    source: Source = layer.source
    colored = [band.role for band in source.bands[:3]] == ["red", "green", "blue"]
    frames = [0, 1, 2] if colored else find_bands(source.bands, layer.frame)
    look = layer.look or source.look or Look()
    return resolve(source, replace(look, channels=None), bands=frames)


def tested(layer: VolumeLayer) -> Source:
    """Return a layer's volume with what its threshold hides made invalid."""
    source: Source = layer.source
    if layer.threshold is None:
        return source
    kept = Thresholded(source, layer.threshold)
    if not layer.least:
        return kept
    return OfSize(kept, least=layer.least, in_mm3=layer.in_mm3, neighbours=layer.neighbours)


def layer_clusters(layer: VolumeLayer) -> list[Cluster]:
    """Return the groups that a layer's threshold leaves, the largest first; none without one."""
    if layer.threshold is None:
        return []
    kept = Thresholded(layer.source, layer.threshold)
    frame = find_bands(layer.source.bands, layer.frame)[0]
    return find_clusters(kept, frame, neighbours=layer.neighbours, least=layer.least,
                    in_mm3=layer.in_mm3)  # fmt: skip
