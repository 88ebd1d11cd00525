"""The demo's study of a joint: a scan, what changed in it, and the scan as a scanner files it."""

from __future__ import annotations

from pathlib import Path

from spectrane.demo.fetlock import computed_tomography, effect
from spectrane.demo.series import write_series
from spectrane.demo.visits import cine, second_visit, segmentation, structure_set, write_uptake
from spectrane.model.whole_files import check_target, written_whole


def write_study(folder: Path, seed: int, scale: float, overwrite: bool) -> list[tuple[Path, str]]:
    """Write the study's volumes into a folder; return their paths and what they are."""
    written = []
    scan = computed_tomography(seed, scale)
    for name, volume, what in (
        ("fetlock.nii.gz", scan, "a horse's joint, Hounsfield units"),
        ("fetlock_effect.nii.gz", effect(seed), "change, t and contrast, coarser and turned"),
        ("fetlock_second.nii.gz", second_visit(seed), "a second visit, turned and moved a little"),
    ):
        volume.save(folder / name, overwrite=overwrite)
        written.append((folder / name, what))
    count = write_series(folder / "fetlock_ct", scan, seed, overwrite)
    what = f"the same scan in {count} files: shuffled, one twice, the gantry leaning"
    written.append((folder / "fetlock_ct", what))
    count = write_uptake(folder / "fetlock_pet", seed, overwrite)
    told = f"an uptake of the joint in {count} slices, each with a slope of its own"
    written.append((folder / "fetlock_pet", told))
    for name, data, what in (
        ("fetlock_bones.dcm", segmentation(), "two bones as segments"),
        ("fetlock_outlines.dcm", structure_set(), "their outlines in millimetres"),
        ("fetlock_cine.dcm", cine(seed), "an ultrasound of the tendons, over time"),
    ):
        check_target(str(folder / name), overwrite=overwrite)
        with written_whole(folder / name, overwrite=overwrite) as file:
            file.write(data)
        written.append((folder / name, what))
    return written
