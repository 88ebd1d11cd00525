"""Volumes as layers: what is shown of each, and where its statistic lets it be shown."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import KW_ONLY, replace
from typing import TYPE_CHECKING, Any

from spectrane.analysis.clusters import Cluster, OfSize, find_clusters
from spectrane.analysis.compared import compared
from spectrane.analysis.grouping import Neighbours, check_neighbours
from spectrane.analysis.thresholds import Threshold, Thresholded
from spectrane.display.layers import Layer, check_opacity
from spectrane.display.outlines import LayerBase
from spectrane.display.plan import RenderPlan, resolve
from spectrane.kernels.blending import MODES, BlendMode
from spectrane.kernels.records import record
from spectrane.model.asking import SourceLike
from spectrane.model.band import BandName, find_band, find_bands
from spectrane.model.colormaps import Colormap, colormap_of
from spectrane.model.errors import GridMismatch, LookError, nearest
from spectrane.model.limits import Found, OfMap
from spectrane.model.look import Look, look_of
from spectrane.model.source import Source, called, source_of

DIVERGING, SEQUENTIAL = "ebbflow", "hearth"
"""The colours of maps that say none: of both signs, and of one."""


@record(frozen=True)
class VolumeLayer(LayerBase):
    """A volume to be looked at, and how: its look, opacity, and where it is shown at all.

    ``frame`` is shown; ``threshold`` (an expression over its frames, or a ``Threshold``) keeps what
    passes, tested on the volume's own voxels; ``least`` leaves out smaller groups, counted in
    voxels or ``in_mm3``, of voxels that are ``neighbours`` by faces (6), edges (18) or corners
    (26). ``faded`` shows what fails too, at that share of the opacity, with an outline at the
    threshold. ``by_value`` lets the opacity grow with the value: clear at 0, or at the end of its
    limits next to 0; ``rims`` draws labels as lines around them, one picture pixel wide, as those
    of a structure set always are. Raises LookError for a number or a word that is none,
    GridMismatch for a raster.

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
    by_value: bool = False
    rims: bool = False
    name: str | None = None
    mode: BlendMode = "normal"

    if TYPE_CHECKING:  # what is given may be a raster; what is held is its source

        def __init__(
            self, source: SourceLike, look: Look | None = None, *, opacity: float = 1.0,
            visible: bool = True, threshold: Threshold | str | None = None, frame: BandName = 1,
            least: float = 0, in_mm3: bool = False, neighbours: Neighbours = 26,
            faded: float = 0.0, by_value: bool = False, rims: bool = False,
            name: str | None = None, mode: BlendMode = "normal",
        ) -> None: ...  # fmt: skip

    def __post_init__(self) -> None:
        """Check numbers and names."""
        object.__setattr__(self, "source", source_of(self.source))
        if self.source.outlined:
            object.__setattr__(self, "rims", True)
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


def laid_over(layer: VolumeLayer) -> VolumeLayer:
    """Return a layer that lies over anatomy, in limits that fit a map where it says none.

    From 0, or about 0, to the extreme: of what passes its threshold, else the 99.9th percentile of
    the magnitudes above 0. Labels, colours and limits that were said stay as they are.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.ones((2, 2, 2)), affine=np.eye(4))
    >>> str(laid_over(sp.VolumeLayer(held)).look.limits[0])
    'map:99.9'
    """
    kept = layer.source.look or Look()
    look = layer.look or replace(kept, limits="auto")  # a range kept for greys is no map's
    if look.classes or layer.source.categories or _colored(layer.source):
        return layer
    if not look.limits_named:
        percentile = 99.9 if layer.threshold is None else 100.0
        return replace(layer, look=replace(look, limits=OfMap(percentile)))
    if look.colormap is not None:
        return layer
    frames = find_bands(layer.source.bands, layer.frame)
    scale = resolve(tested(layer), replace(look, channels=None), bands=frames[:1]).scales[0]
    return replace(layer, look=replace(look, colormap=_by_signs(scale.low, scale.high)))


def _by_signs(low: float, high: float) -> Colormap:
    """Return the colours of a map between two limits: from 0, up or down, or about it."""
    least, most = sorted((low, high))
    if least < 0 < most:
        return colormap_of(DIVERGING)
    return colormap_of(SEQUENTIAL if most > 0 else f"{SEQUENTIAL} reversed")  # 0 is the dark end


def _colored(source: Source) -> bool:
    return [band.role for band in source.bands[:3]] == ["red", "green", "blue"]


def planned_volume(layer: VolumeLayer) -> RenderPlan:
    """Resolve how a volume's frame is shown, from all of it: every slice of it is shown alike.

    A map's limits see what its threshold lets be seen, and its colours, where none are said, have
    their middle at 0 where it has both signs.
    """
    source: Source = layer.source
    frames = [0, 1, 2] if _colored(source) else find_bands(source.bands, layer.frame)
    look = replace(layer.look or source.look or Look(), channels=None)
    of_map = isinstance(look.limits[0], OfMap)
    kept = tested(layer) if of_map else source
    plan = resolve(kept, look, bands=frames)
    if not plan.scales or len(frames) > 1:
        return plan
    ends = sorted((plan.scales[0].low, plan.scales[0].high))
    both = ends[0] < 0 < ends[1]
    if of_map and not both:
        look = _from_threshold(layer, look, frames[0], ends)
        plan = resolve(kept, look, bands=frames)
    colors = look.colormap
    if colors is None and (of_map or layer.by_value):
        colors = _by_signs(*ends)
    if layer.by_value and colors is not None:
        colors = colors.clearing("middle" if both else "last" if ends[1] <= 0 else "first")
    same = colors is look.colormap
    return plan if same else resolve(kept, replace(look, colormap=colors), bands=frames)


def _from_threshold(layer: VolumeLayer, look: Look, frame: int, ends: Sequence[float]) -> Look:
    """Return a map's look whose colours begin at the threshold where that tests one side of the
    frame that is shown.
    """
    level = _one_sided(layer, frame)
    low, high = ends
    if level is None or not low < level < high:
        return look
    pair = (level, high) if low >= 0 else (low, level)
    return replace(look, limits=Found(*pair, str(look.limits[0])))


def _one_sided(layer: VolumeLayer, frame: int) -> float | None:
    """Return the value that a layer's test holds its shown frame to on one side; None of others."""
    test, bands = layer.threshold, layer.source.bands
    if isinstance(test, Threshold):
        kept = Thresholded(layer.source, test, shown=frame)
        assert isinstance(kept.test, Threshold)
        side = kept.test.one_sided
        if side == "both" or kept.tested != frame:
            return None
        level = kept.level()
        return -abs(level) if side == "negative" else level
    found = compared(test or "")
    if found is None or found.sized or find_band(bands, found.frame) != frame:
        return None
    return found.level


def tested(layer: VolumeLayer) -> Source:
    """Return a layer's volume with what its threshold hides made invalid."""
    source: Source = layer.source
    if layer.threshold is None:
        return source
    kept = kept_by(layer)
    if not layer.least:
        return kept
    return OfSize(kept, least=layer.least, in_mm3=layer.in_mm3, neighbours=layer.neighbours)


def kept_by(layer: VolumeLayer) -> Thresholded:
    """Return what a layer's threshold keeps, which it has."""
    assert layer.threshold is not None
    shown = find_bands(layer.source.bands, layer.frame)[0]
    return Thresholded(layer.source, layer.threshold, shown=shown)


def layer_clusters(layer: VolumeLayer, *, apart: float | None = None) -> list[Cluster]:
    """Return the groups that a layer's threshold leaves, the largest first; none without one.

    With ``apart`` they tell all their peaks: see ``analysis.clusters.find_clusters``.
    """
    if layer.threshold is None:
        return []
    kept = kept_by(layer)
    frame = find_bands(layer.source.bands, layer.frame)[0]
    return find_clusters(kept, frame, neighbours=layer.neighbours, least=layer.least,
                         in_mm3=layer.in_mm3, apart=apart)  # fmt: skip
