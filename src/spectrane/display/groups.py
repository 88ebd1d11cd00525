"""The groups that a map's threshold leaves, as rows: their peaks, and the labels under them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.analysis.clusters import Peak
from spectrane.display.volume_layers import VolumeLayer, layer_clusters
from spectrane.display.volume_probing import voxel_at
from spectrane.model.source import Source

OF_GROUPS = ("voxels", "volume", "center_x", "center_y", "center_z")
"""What rows of peaks tell of their group."""


def group_rows(
    layer: VolumeLayer, *, labels: Source | None = None, apart: float | None = None
) -> list[dict[str, Any]]:
    """Return a row per group, the largest first: see ``spectrane.clusters``.

    With ``apart`` each has ``peaks``, a row per peak. With ``labels``, a volume of them, peaks tell
    the label they lie in: its name, else its number, "" for none.
    """
    rows = []
    for cluster in layer_clusters(layer, apart=apart):
        row: dict[str, Any] = dict(vars(cluster))  # ``asdict`` copies deeply, which takes its time
        peaks = [dict(vars(peak)) for peak in row.pop("peaks")]
        top = np.array([cluster.peak_x, cluster.peak_y, cluster.peak_z])
        if labels is not None:
            row["label"] = label_at(labels, top)
            for peak in peaks:
                peak["label"] = label_at(labels, np.array([peak["x"], peak["y"], peak["z"]]))
        rows.append(row | ({} if apart is None else {"peaks": peaks}))
    return rows


def peak_rows(groups: Sequence[dict[str, Any]]) -> list[dict[str, Any]]:
    """Return a row per peak of groups, with the group's number and size."""
    own = [name for name in Peak.__dataclass_fields__ if name != "rank"]
    return [
        {"number": group["number"], "rank": peak["rank"],
         **{name: group[name] for name in OF_GROUPS}, **{name: peak[name] for name in own},
         **({"label": peak["label"]} if "label" in peak else {})}
        for group in groups for peak in group["peaks"]
    ]  # fmt: skip


def label_at(labels: Source, place: Any) -> str:
    """Return the label in whose voxel a place (mm) lies: its name, its number, or "" for none."""
    voxel = voxel_at(labels, place)
    if voxel is None:
        return ""
    pixels = labels.read([0], tuple((n, n + 1) for n in voxel))
    number = pixels.values.item()
    if not number or not pixels.validity.item():
        return ""
    classes = labels.look.classes if labels.look is not None else {}
    return classes.get(float(number), ("", ""))[1] or f"{number:g}"
