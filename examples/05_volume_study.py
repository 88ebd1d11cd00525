"""A volume study: look at the joint, lay the trial's map over it, read values, write what is kept.

Run it after ``make demo``: ``python examples/05_volume_study.py [DEMO_FOLDER] [OUT_FOLDER]``.
"""

from __future__ import annotations

import sys
import warnings
from pathlib import Path

import spectrane as sp


def main(demo: Path, out: Path) -> None:
    """Go through the steps and write what they give into ``out``."""
    out.mkdir(parents=True, exist_ok=True)
    joint = sp.open_volume(demo / "fetlock.nii.gz")
    effect = sp.open_volume(demo / "fetlock_effect.nii.gz")
    print(joint.describe())
    print(effect.describe(statistics=True))

    # 0. The scanner's own files: shuffled, one there twice, the gantry leaning. They open as one
    # volume in the patient, and agree with the other file at the same millimetre.
    with warnings.catch_warnings():
        warnings.simplefilter("ignore", sp.DataWarning)  # the copy, which is left out and told
        series = sp.open_volume(demo / "fetlock_ct")
    print(series, *series.windows, sep="\n  ")
    i, j, k = (n // 2 for n in series.shape[1:])
    read = sp.probe([series, joint], i=i, j=j, k=k)["physical"]
    assert read[0] == read[1]
    both = [[sp.VolumeLayer(one, sp.Look(limits="window:bone"))] for one in (series, joint)]
    sp.compare_slices(both, "sagittal", at=0).save(out / "same.png", overwrite=True)

    # 1. The bone window; the map is coarser and turned, and meets the joint in millimetres.
    bone = sp.VolumeLayer(joint, sp.Look(limits="window:bone"))
    look = sp.Look(colormap="ebbflow", limits="symmetric:99")
    change = sp.VolumeLayer(
        effect, look, frame="change", threshold="abs(t) >= 5", least=50, in_mm3=True, faded=0.3
    )
    sp.three_planes([bone, change], (12, 0, 9)).save(out / "planes.png", overwrite=True)
    sheet = sp.montage([bone, change], "coronal", count=12, span=(-18, 18))
    sheet.save(out / "sheet.png", overwrite=True)
    slab = sp.slice_picture([bone], "sagittal", at=9, slab=10, project="mean")
    slab.save(out / "slab.png", overwrite=True)

    # 2. Where is it significant, and what stands there?
    print(sp.clusters(change).round(1).to_string())
    print(sp.probe([bone, change], x=12, y=0, z=9).to_string(index=False))

    # 3. A map of differences reads the difference of the readings.
    first, second = effect.voxels("change"), effect.voxels("contrast")
    rest = sp.volume_from_array(
        (first - second).filled(float("nan")), affine=effect.affine, frames=[sp.Frame("rest", "HU")]
    )
    rest.save(out / "rest.nii.gz", overwrite=True)
    with sp.open_volume(out / "rest.nii.gz") as kept:
        read = sp.probe([effect, kept], x=12, y=0, z=9).set_index("frame")["physical"]
    assert abs(read["rest"] - (read["change"] - read["contrast"])) < 1e-4

    # 4. Parts: what is dense is bone; how much there is, and how the trial changed it.
    dense = joint.regrid(effect).voxels().filled(-1000) > 300
    bone_part = sp.volume_from_array(dense.astype("uint8"), affine=effect.affine)
    labels = bone_part.as_labels({1: "bone"})
    print(effect.statistics(by=labels).round(2).to_string())
    print(sp.profile(effect, region=labels).round(2).to_string(index=False))
    drawn = [bone, sp.VolumeLayer(labels, opacity=0.5)]
    sp.slice_picture(drawn, "coronal", at=0).save(out / "labels.png", overwrite=True)

    # 5. The joint on the map's voxels, cut to the part that matters.
    coarse = joint.regrid(effect).crop(k=(6, 30))
    coarse.save(out / "joint_coarse.nii.gz", overwrite=True)
    print(coarse, coarse.statistics().round(1).to_string())

    # 6. Fusion: an uptake over the bones, clear where there is none; its standard values.
    uptake = sp.open_volume(demo / "fetlock_pet")
    fused = [bone, sp.VolumeLayer(uptake, by_value=True),
             sp.VolumeLayer(sp.open_volume(demo / "fetlock_outlines.dcm"))]  # fmt: skip
    sp.three_planes(fused, (12, 0, 9)).save(out / "fused.png", overwrite=True)
    suv = uptake.convert("SUV")
    bones = sp.open_volume(demo / "fetlock_bones.dcm")
    print(suv.profile(labels=bones).round(3).to_string(index=False))
    print(sp.peaks(change, labels=bones).round(1).to_string(index=False))
    survivors = sp.figures.survivors(sp.survivors(change))
    sp.figures.save_figure(survivors, out / "survivors.png", overwrite=True)

    # 7. Two visits: the second is brought onto the first, and the difference told by bone.
    later = sp.open_volume(demo / "fetlock_second.nii.gz")
    moved = sp.align(later, joint)
    print(moved)
    lying = sp.apply_alignment(later, joint, moved)
    look = sp.Look(limits="window:bone")
    board = sp.compare_slices([(joint, look), (lying, look)], "coronal", mode="checker")
    board.save(out / "board.png", overwrite=True)
    visits = sp.join_frames([joint, lying], regrid=True, names=["first", "second"])
    difference = visits.compute({"difference": "second - first"}, unit="HU")
    print(difference.profile(labels=bones).round(1).to_string(index=False))


if __name__ == "__main__":
    given = [Path(argument) for argument in sys.argv[1:]]
    main(given[0] if given else Path("demo"), given[1] if len(given) > 1 else Path("volume"))
