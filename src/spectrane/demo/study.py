"""The demo's study of a joint: a scan, what changed in it, and the scan as a scanner files it."""

from __future__ import annotations

from pathlib import Path

from spectrane.demo.fetlock import computed_tomography, effect
from spectrane.demo.series import write_series


def write_study(folder: Path, seed: int, scale: float, overwrite: bool) -> list[tuple[Path, str]]:
    """Write the study's volumes into a folder; return their paths and what they are."""
    written = []
    scan = computed_tomography(seed, scale)
    for name, volume, what in (
        ("fetlock.nii.gz", scan, "a horse's joint, Hounsfield units"),
        ("fetlock_effect.nii.gz", effect(seed), "change, t and contrast, coarser and turned"),
    ):
        volume.save(folder / name, overwrite=overwrite)
        written.append((folder / name, what))
    count = write_series(folder / "fetlock_ct", scan, seed, overwrite)
    what = f"the same scan in {count} files: shuffled, one twice, the gantry leaning"
    return [*written, (folder / "fetlock_ct", what)]
