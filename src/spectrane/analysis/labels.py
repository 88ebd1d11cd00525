"""Labels of a volume: which there are, and what another volume measures in each of them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from spectrane.analysis.statistics import Moments
from spectrane.analysis.walking import finite, walk
from spectrane.model.band import Band
from spectrane.model.errors import GridMismatch, LookError, MetadataError
from spectrane.model.labels import label_classes, labels_called
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
    moments = label_moments(source, bands, labels)
    classes = labels.look.classes if labels.look is not None else {}
    voxel = abs(float(np.linalg.det(source.grid.matrix[:3, :3])))
    return [_row(label, classes, source.bands[bands[number]], moments[label, number], voxel)
            for label, number in sorted(moments)]  # fmt: skip


def label_moments(
    source: Source, bands: Sequence[int], labels: Source
) -> dict[tuple[int, int], Moments]:
    """Return what bands hold in each label, by label and the band's place; not of label 0.

    Both lie on the same voxels. Values are put in order of their labels once for each block.
    """
    moments: dict[tuple[int, int], Moments] = {}
    for window, pixels in source.blocks(bands, whole(source.shape)):
        named = labels.read([0], window)
        numbers = np.where(named.validity[0], named.values[0], 0).ravel()
        order = np.argsort(numbers, kind="stable")
        ordered = numbers[order]
        starts = np.flatnonzero(np.diff(ordered, prepend=ordered[:1] - 1))
        valid = pixels.validity
        for place in range(len(bands)):
            values = pixels.values[place].ravel()[order]
            good = valid[place].ravel()[order]
            for start, end in zip(starts, [*starts[1:], len(ordered)], strict=True):
                label = int(ordered[start])
                if not label:
                    continue
                part = finite(values[start:end][good[start:end]])
                if part.size:
                    moments.setdefault((label, place), Moments()).add(part)
    return moments


def label_zones(
    source: Source, labels: Source, asked: Sequence[str | int] | None
) -> list[dict[str, Any]]:
    """Return a row per label and frame, as ``analysis.profiles.zone_rows`` has them.

    ``asked`` are names or numbers; None: all that occur. Raises LookError for a label that there is
    not, or that no valid voxel lies in.
    """
    moments = label_moments(source, range(len(source.bands)), labels)
    present = sorted({label for label, _ in moments})
    own = labels.look.classes if labels.look is not None else {}
    classes = {**label_classes(present), **own}
    chosen = present if asked is None else [int(one) for one in labels_called(classes, asked)]
    rows = []
    for label in chosen:
        name = classes[float(label)][1] or str(label)
        if label not in present:
            raise LookError(f"label {name}: no valid voxel lies in it")
        for number, band in enumerate(source.bands, 1):
            found = moments.get((label, number - 1), Moments())
            rows.append({
                "zone": name, "frame": band.name, "number": number, "time": band.time,
                "unit": band.unit, "count": found.count, **found.physical(band),
            })  # fmt: skip
    return rows


def _row(label: int, classes: Any, band: Band, moments: Moments, voxel: float) -> dict[str, Any]:
    return {
        "label": label, "frame": band.name, "name": classes.get(float(label), ("", ""))[1],
        "voxels": moments.count, "volume": moments.count * voxel, **moments.physical(band),
        "unit": band.unit,
    }  # fmt: skip
