"""Groups of voxels that pass a test: their table, their peaks, and what survives other tests."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import fields
from typing import TYPE_CHECKING, Any

from spectrane.kernels.quiet import quiet

if TYPE_CHECKING:
    import pandas

    from spectrane.display.volume_layers import VolumeLayer
    from spectrane.volume import Volume


@quiet
def clusters(layer: VolumeLayer, *, labels: Volume | None = None) -> pandas.DataFrame:
    """Return a row per group of voxels that a layer's threshold leaves, the largest first.

    Columns: ``voxels``, ``volume`` (mm³), ``peak`` with ``peak_x peak_y peak_z`` and the centre of
    mass ``center_x center_y center_z`` (mm), by the frame that is shown; ``statistic``, the tested
    frame's value at the peak; and ``label``, of ``labels`` under the peak, where they are given.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.array([[[0, 9, 9, 0, 7]]]), affine=np.eye(4))
    >>> sp.clusters(sp.VolumeLayer(held, threshold="band(1) > 5"))["voxels"].tolist()
    [2, 1]
    """
    import pandas

    from spectrane.analysis.clusters import Cluster

    columns = [field.name for field in fields(Cluster) if field.name != "peaks"]
    columns += [] if labels is None else ["label"]
    table = pandas.DataFrame(cluster_rows(layer, labels=labels), columns=columns)
    return table.set_index("number")


@quiet
def cluster_rows(
    layer: VolumeLayer, *, labels: Volume | None = None, apart: float | None = None
) -> list[dict[str, Any]]:
    """Return the rows of ``clusters`` as plain mappings, with their ``number``, without pandas.

    With ``apart`` each has ``peaks`` too: the rows of ``peaks``.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.array([[[0, 9, 9, 0, 7]]]), affine=np.eye(4))
    >>> [row["voxels"] for row in sp.cluster_rows(sp.VolumeLayer(held, threshold="band(1) > 5"))]
    [2, 1]
    """
    from spectrane.display.groups import group_rows

    return group_rows(layer, labels=None if labels is None else labels._source, apart=apart)


@quiet
def peaks(
    layer: VolumeLayer, *, apart: float = 0.0, labels: Volume | None = None
) -> pandas.DataFrame:
    """Return a row per peak of each group that a layer's threshold leaves, the strongest first.

    A peak is a voxel that none of the 26 beside it is stronger than; peaks of a group lie at least
    ``apart`` mm from one another (0: three times the longest side of a voxel). Columns: ``number``
    of the group, ``rank`` (1 its strongest), ``voxels volume center_x center_y center_z`` of the
    group, ``peak statistic x y z i j k``, and ``label`` as for ``clusters``.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.array([[[9, 8, 7, 7, 8.5]]]), affine=np.eye(4))
    >>> sp.peaks(sp.VolumeLayer(held, threshold="band(1) > 5"))["peak"].tolist()
    [9.0, 8.5]
    """
    import pandas

    from spectrane.analysis.clusters import Peak
    from spectrane.display.groups import OF_GROUPS, peak_rows

    names = [field.name for field in fields(Peak) if field.name != "rank"]
    columns = ["number", "rank", *OF_GROUPS, *names, *([] if labels is None else ["label"])]
    return pandas.DataFrame(
        peak_rows(cluster_rows(layer, labels=labels, apart=apart)), columns=columns
    )


@quiet
def survivors(layer: VolumeLayer, *, levels: Sequence[float] | None = None) -> pandas.DataFrame:
    """Return how many voxels and groups survive at each threshold, the layer's own among them.

    Columns: ``threshold voxels groups chosen``. ``levels`` None are 33 from 0 to the strongest
    value. Groups smaller than the layer's ``least`` count at none. ``figures.survivors`` draws it.
    Raises LookError for a layer without a threshold, or an expression that has no single level.

    >>> import numpy as np, spectrane as sp
    >>> held = sp.volume_from_array(np.array([[[0, 9, 9, 0, 7]]]), affine=np.eye(4))
    >>> layer = sp.VolumeLayer(held, threshold="band(1) >= 5")
    >>> sp.survivors(layer, levels=[8]).values.tolist()
    [[5.0, 3, 2, True], [8.0, 2, 1, False]]
    """
    import pandas

    from spectrane.analysis.survivors import surviving_at, tested_frame
    from spectrane.model.band import find_bands
    from spectrane.model.errors import LookError

    if layer.threshold is None:
        raise LookError("survivors: the layer has no threshold")
    shown = find_bands(layer.source.bands, layer.frame)[0]
    found = surviving_at(
        layer.source, layer.threshold, shown=shown, neighbours=layer.neighbours,
        least=layer.least, in_mm3=layer.in_mm3, levels=levels,
    )  # fmt: skip
    table = pandas.DataFrame(found)
    table.attrs |= {
        "map": layer.title,
        "measure": tested_frame(layer.source, layer.threshold, shown),
    }
    return table
