"""``spectrane slices``: a slice, three planes or a montage of a volume, maps laid over it."""

from __future__ import annotations

import contextlib
from typing import Any

from spectrane.cli.answering import Answer, answering, for_each, records, table_text
from spectrane.cli.files import targets
from spectrane.cli.options import command_of
from spectrane.cli.slice_drawing import check_ways, draw_slices, save_groups
from spectrane.cli.slice_options import SlicesOptions
from spectrane.cli.written import file_facts, size_text
from spectrane.model.patient import turned_by
from spectrane.model.whole_files import check_target


@command_of("slices", SlicesOptions, examples=(
    "slices demo/fetlock.nii.gz -o joint.png --limits window:bone --map demo/fetlock_effect.nii.gz "
    "--measure change --threshold 'abs(t) >= 5' --at 10,0,8",
    "slices demo/fetlock.nii.gz -o walk.png --plane coronal --animated 40 --limits window:bone",
    "slices demo/fetlock.nii.gz -o all.png --plane axial --montage 15 --limits window:bone",
))  # fmt: skip
def command(options: SlicesOptions) -> None:
    """Draw slices of a volume in true proportion, with the patient's sides at the edges.

    Three planes meet at --at X,Y,Z, where the values of every frame are told; one plane is cut at
    --at MM. A map on another grid is laid over it, where it is significant; its groups are listed.
    """
    check_ways(options)
    for extra in (options.csv, options.survivors):
        if extra:
            check_target(extra, overwrite=options.overwrite)
    places = targets(options.files, options.output, options.out_dir, ".png")
    with answering(options) as answer:
        for_each(options.files, lambda file: _one(file, places[file], options, answer), answer)


def _one(file: str, target: str, options: SlicesOptions, answer: Answer) -> None:
    from spectrane.looking import probe
    from spectrane.opening import open_volume

    if not options.sequence and options.frames != "numbered":
        check_target(target, overwrite=options.overwrite)
    opening = options.opening(options.files.index(file), len(options.files))
    with contextlib.ExitStack() as stack:
        volume = stack.enter_context(open_volume(file, **opening))
        done = draw_slices(volume, target, options, stack)
        crossing = options.at is not None and len(options.at) == 3
        points = [dict(zip("xyz", options.at or (), strict=False))]
        under = probe(done.layers, points=points) if crossing else None
        lean = turned_by(volume.grid)
        tables = save_groups(done, options) if file == options.files[0] else []
    rows, columns = done.picture.rgba.shape[:2]
    facts = file_facts(done.written[0]) | {
        "input": file, "outputs": done.written, "rows": rows, "columns": columns,
        "scales": [str(scale) for scale in done.picture.scales],
        "groups": done.groups, "axes": options.axes,
        "turned_degrees": lean, "point": [] if under is None else records(under),
    }  # fmt: skip
    many = f" to {done.written[-1]}" if len(done.written) > 1 else ""
    lines = [f"{done.written[0]}{many}: {columns} x {rows}, {size_text(done.written[0])}"]
    lines += [f"  {scale}" for scale in facts["scales"]]
    if lean > 1:
        own = "along the volume's own axes" if options.axes == "own" else (
            "on the patient's planes (--axes own follows the volume)")  # fmt: skip
        lines.append(f"  the volume is turned by {lean:.3g} degrees; cut {own}")
    lines += _groups(facts["groups"])
    lines += [] if under is None else table_text(under.drop(columns=["point"])).splitlines()
    answer.add(facts, *lines)
    for table in tables:
        answer.add(file_facts(table), f"{table}: {size_text(table)}")


def _groups(groups: list[dict[str, Any]]) -> list[str]:
    """Return a line per group, and one per further peak of it."""
    if not groups:
        return []
    apart = [group["peak"] != group["statistic"] for group in groups]
    told = any(apart) and any(group["statistic"] is not None for group in groups)
    named = any(group.get("label") for group in groups)
    head = f"  {'group':>5}{'voxels':>8}{'mm3':>10}{'peak':>9}"
    head += f"{'statistic':>11}" if told else ""
    lines = [f"{head}   {'at x, y, z (mm)':>22}" + ("   label" if named else "")]
    for group in groups:
        for peak in group["peaks"]:
            first = peak["rank"] == 1
            size = f"{group['number']:>5}{group['voxels']:>8}{group['volume']:>10.0f}"
            row = f"  {size if first else ' ' * len(size)}{peak['peak']:>9.3g}"
            known = "" if peak["statistic"] is None else f"{peak['statistic']:.3g}"
            row += f"{known:>11}" if told else ""
            row += "   " + ", ".join(f"{peak[axis]:6.1f}" for axis in "xyz")
            lines.append(row + (f"   {peak.get('label', '')}" if named else ""))
    return lines
