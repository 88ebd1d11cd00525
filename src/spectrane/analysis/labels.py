"""Labels of a volume: which there are, and what another volume measures in each of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.analysis.statistics import Moments
from spectrane.analysis.walking import valid_values, walk
from spectrane.model.band import Band
from spectrane.model.errors import GridMismatch, MetadataError
from spectrane.model.source import Source
from spectrane.model.window import whole

_MOST = 65536


def labels_in(source: Source) -> list[int]:
    """Return the labels of a volume's first frame, in order; every voxel is read, by blocks.

    Raises MetadataError where numbers are not whole, or there are more than 65 536 of them.
    """
    labels: set[int] = set()
    for (values,) in walk(source, [0], whole(source.shape)):
        seen = np.unique(values)
        if seen.dtype.kind == "f" and not (seen == np.floor(seen)).all():
            raise MetadataError(
                f"{source.name or 'volume'}: {seen[seen != np.floor(seen)][0]:g} is no label; "
                "expected whole numbers"
            )
        labels |= set(seen.astype(np.int64).tolist())
        if len(labels) > _MOST:
            raise MetadataError(f"{source.name or 'volume'}: more than {_MOST} labels")
    return sorted(labels)


def label_statistics(source: Source, bands: Sequence[int], labels: Source) -> list[dict[str, Any]]:
    """Return a row per label and frame: voxels, mm³, mean, σ, least and greatest (physical).

    ``labels`` lies on the same voxels (regrid it first); 0 is the background and has no row. Block
    by block, in one pass. Raises GridMismatch for another grid.
    """
    if labels.shape != source.shape or not np.allclose(
        labels.grid.matrix, source.grid.matrix, atol=1e-6
    ):
        raise GridMismatch(
            f"labels lie on another grid ({labels.shape} voxels against {source.shape}); bring "
            "them to this one: labels.regrid(volume)"
        )
    moments: dict[tuple[int, int], Moments] = {}
    for window, pixels in source.blocks(bands, whole(source.shape)):
        named = labels.read([0], window)
        known = named.validity[0]
        for label in np.unique(named.values[0][known]).tolist():
            if label == 0:
                continue
            here = valid_values(pixels.only(known & (named.values[0] == label)))
            for number, values in enumerate(here):
                moments.setdefault((int(label), number), Moments()).add(values)
    classes = labels.look.classes if labels.look is not None else {}
    voxel = abs(float(np.linalg.det(source.grid.matrix[:3, :3])))
    return [_row(label, classes, source.bands[bands[number]], moments[label, number], voxel)
            for label, number in sorted(moments)]  # fmt: skip


def _row(label: int, classes: Any, band: Band, moments: Moments, voxel: float) -> dict[str, Any]:
    return {
        "label": label, "frame": band.name, "name": classes.get(float(label), ("", ""))[1],
        "voxels": moments.count, "volume": moments.count * voxel, **moments.physical(band),
        "unit": band.unit,
    }  # fmt: skip
