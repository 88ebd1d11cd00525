"""``spectrane slices``: a slice, three planes or a montage of a volume, maps laid over it."""

from __future__ import annotations

import contextlib
import itertools
import json
from dataclasses import asdict, replace
from typing import Any

import click

from spectrane.analysis.clusters import NEIGHBOURS
from spectrane.analysis.thresholds import ONE_SIDED, STATISTICS, Threshold
from spectrane.cli.clip import Range
from spectrane.cli.common import (
    Numbers,
    ParamType,
    Size,
    examples,
    opening_of,
    opening_options,
    print_table,
    shared_options,
    told_warnings,
)
from spectrane.cli.looks import limits_given
from spectrane.model.look import Look
from spectrane.model.patient import turned_by
from spectrane.model.whole_files import check_target
from spectrane.spatial.slicing import AXES, PLANES, PROJECTIONS, SIDES


class Least(ParamType):
    """A size in voxels, or in mm³."""

    name = "N[mm3]"

    def convert(self, value: Any, param: Any, ctx: Any) -> tuple[float, bool]:
        """Read 20 or 50mm3."""
        if isinstance(value, tuple):
            return value
        try:
            size = float(value.removesuffix("mm3"))
        except ValueError:
            self.fail(f"{value!r} is not a number of voxels, or of mm3: 20, 50mm3", param, ctx)
        return size, value.endswith("mm3")


@click.command("slices")
@click.argument("volume")
@click.option("--output", "-o", type=click.Path(), required=True, help="The picture (.png).")
@click.option("--plane", type=click.Choice([*PLANES, "all"]), default="all",
              help="One plane, or all three through a point.")  # fmt: skip
@click.option("--at", type=Numbers(1, "MM"), help="Where one plane is cut, in mm.")
@click.option("--index", type=click.IntRange(0), help="Or a stored plane, from 0.")
@click.option("--point", type=Numbers(3, "X,Y,Z"), help="Where three planes meet, in mm.")
@click.option("--montage", type=click.IntRange(1, 400), help="So many slices, evenly spread.")
@click.option("--sequence", type=click.IntRange(1, 400), help="Or in numbered files: OUT-01.png, …")
@click.option("--animated", type=click.IntRange(2, 400), help="Or in one moving picture.")
@click.option("--frames", "through_frames", type=click.Choice(["animated", "numbered"]),
              help="One slice in every frame: in a moving picture, or in files.")  # fmt: skip
@click.option(
    "--pace", type=click.IntRange(1, 65535), default=100, help="Milliseconds per picture."
)
@click.option("--span", type=Range(), help="Many: from LOW..HIGH mm; else what is not empty.")
@click.option("--beside", type=click.Path(), help="A second volume, at the same mm, to its right.")
@click.option("--slab", type=float, default=0.0, help="A thickness in mm that is projected.")
@click.option("--project", type=click.Choice(PROJECTIONS), default="maximum")
@click.option("--side", type=click.Choice(SIDES),
              default="radiological", help="Right on the left, or right.")  # fmt: skip
@click.option("--axes", type=click.Choice(AXES), default="patient",
              help="Planes of the patient, or along the volume's own axes.")  # fmt: skip
@click.option("--frame", default="1", help="The frame that is shown: its number or name.")
@click.option(
    "--limits", multiple=True, help="window:bone, window:C,W, window:2 (the file's own), LOW,HIGH."
)
@click.option("--colormap", help="For the volume; grey if unsaid.")
@click.option("--invert", is_flag=True, help="A negative.")
@click.option("--map", "map_file", type=click.Path(), help="A volume of measures laid over it.")
@click.option("--labels", "labels_file", type=click.Path(), help="A volume of labels laid over it.")
@click.option("--measure", default="1", help="The map's frame that gives the colour.")
@click.option("--threshold", help="Where the map is shown: 'abs(t) >= 5'.")
@click.option("--p", "p_value", type=float, help="Or: where the statistic has p below this.")
@click.option("--fdr", type=float, help="Or: at this false discovery rate.")
@click.option("--statistic", default="t", type=click.Choice(STATISTICS))
@click.option("--statistic-frame", default="t", help="The map's frame with the statistic.")
@click.option("--dof", help="Degrees of freedom of t, or two of F with a comma.")
@click.option("--one-sided", type=click.Choice(ONE_SIDED))
@click.option("--least", type=Least(), default="0", help="Leave out smaller groups: 20, or 50mm3.")
@click.option("--neighbours", type=click.Choice([str(n) for n in NEIGHBOURS]), default="26",
              help="Voxels of a group touch by faces, edges too, or corners too.")  # fmt: skip
@click.option("--faded", type=click.FloatRange(0, 1, max_open=True), default=0.0,
              help="Show what fails too, this faint, outlined at the threshold.")  # fmt: skip
@click.option("--map-limits", help="LOW,HIGH of the map; symmetric:99 if unsaid.")
@click.option("--map-colormap", default="ebbflow", help="For the map.")
@click.option("--opacity", type=click.FloatRange(0, 1), default=1.0, help="Of the map.")
@click.option(
    "--size", type=Size(), default="1280x800", help="Pixels that the picture has at most."
)
@click.option("--plain", is_flag=True, help="Without letters, captions and colour bars.")
@opening_options
@click.option("--overwrite", is_flag=True, help="Replace a picture that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "slices demo/fetlock.nii.gz -o joint.png --limits window:bone --map demo/fetlock_effect.nii.gz "
    "--measure change --threshold 'abs(t) >= 5' --point 10,0,8",
    "slices demo/fetlock.nii.gz -o walk.png --plane coronal --animated 40 --limits window:bone",
    "slices demo/fetlock.nii.gz -o all.png --plane axial --montage 15 --limits window:bone",
)
def command(volume: str, **options: Any) -> None:
    """Draw slices of a volume in true proportion, with the patient's sides at the edges.

    A map on another grid is laid over it, where it is significant; its groups are listed. With
    --point the values of every frame there are told.
    """
    from spectrane.display.volume_layers import groups
    from spectrane.opening import open as open_any
    from spectrane.opening import probe

    if not options["sequence"] and options["through_frames"] != "numbered":
        check_target(options["output"], overwrite=options["overwrite"])
    quiet = options["quiet"] or options["as_json"]
    with told_warnings(quiet) as told, contextlib.ExitStack() as stack:
        opened = stack.enter_context(open_any(volume, **opening_of(options)))
        layers = [_anatomy(opened, options)]
        found: list[dict[str, Any]] = []
        if options["map_file"]:
            layers.append(_map(stack.enter_context(open_any(options["map_file"])), options))
            found = [asdict(one) for one in groups(layers[1])]
        if options["labels_file"]:
            layers.append(_labels(stack.enter_context(open_any(options["labels_file"])), options))
        picture, written = _written(layers, options, stack)
        under = probe(layers, points=_crossing(options)) if options["point"] else None
        lean = turned_by(opened.grid)
    rows, columns = picture.rgba.shape[:2]
    if options["as_json"]:
        facts = {
            "pictures": written, "rows": rows, "columns": columns,
            "scales": [str(s) for s in picture.scales], "clusters": found,
            "axes": options["axes"], "turned_degrees": lean,
            "point": [] if under is None else json.loads(under.to_json(orient="records")),
            "told": told,
        }  # fmt: skip
        click.echo(json.dumps(facts))
    elif not quiet:
        many = f" to {written[-1]}" if len(written) > 1 else ""
        click.echo(f"{written[0]}{many}: {columns} x {rows}")
        for scale in picture.scales:
            click.echo(f"  {scale}")
        if lean > 1:
            own = "along the volume's own axes" if options["axes"] == "own" else (
                "on the patient's planes (--axes own follows the volume)")  # fmt: skip
            click.echo(f"  the volume is turned by {lean:.3g} degrees; cut {own}")
        _tell_groups(found)
        if under is not None:
            print_table(under.drop(columns=["point"]))


def _anatomy(opened: Any, options: dict[str, Any]) -> Any:
    from spectrane.display.volume_layers import VolumeLayer

    given: dict[str, Any] = {"invert": True} if options["invert"] else {}
    given |= {"colormap": options["colormap"]} if options["colormap"] else {}
    given |= {"limits": limits_given(options["limits"])} if options["limits"] else {}
    return VolumeLayer(opened, replace(opened.look or Look(), **given), frame=options["frame"])


def _likened(opened: Any, first: Any, options: dict[str, Any]) -> Any:
    """Return a second volume under the first one's limits, where both measure in one unit."""
    from spectrane.display.volume_layers import planned_volume

    scales = planned_volume(first).scales
    unit = scales[0].unit if len(scales) == 1 else None
    made = _anatomy(opened, options)
    if unit is None or unit != opened.frames[0].unit:
        return made
    return replace(made, look=replace(made.look, limits=(scales[0].low, scales[0].high)))


def _labels(opened: Any, options: dict[str, Any]) -> Any:
    """Return labels in the colours of their file, or in ones of their own."""
    from spectrane.display.volume_layers import VolumeLayer

    known = opened.look is not None and opened.look.classes
    labels = opened if known else opened.as_labels()
    return VolumeLayer(labels, labels.look, opacity=options["opacity"])


def _map(opened: Any, options: dict[str, Any]) -> Any:
    from spectrane.display.volume_layers import VolumeLayer

    least, in_mm3 = options["least"]
    limits = limits_given([options["map_limits"]]) if options["map_limits"] else "symmetric:99"
    return VolumeLayer(
        opened, Look(colormap=options["map_colormap"], limits=limits),
        opacity=options["opacity"], threshold=_threshold(options), frame=options["measure"],
        least=least, in_mm3=in_mm3, neighbours=int(options["neighbours"]), faded=options["faded"],
    )  # fmt: skip


def _crossing(options: dict[str, Any]) -> list[dict[str, Any]]:
    return [dict(zip("xyz", options["point"], strict=True))]


def _threshold(options: dict[str, Any]) -> Any:
    ways = [options[name] for name in ("threshold", "p_value", "fdr")]
    if sum(way is not None for way in ways) > 1:
        raise click.UsageError("say one of --threshold, --p and --fdr")
    if options["dof"] is not None and options["p_value"] is None and options["fdr"] is None:
        raise click.UsageError("--dof is for --p and --fdr")
    if options["threshold"] is not None or all(way is None for way in ways):
        return options["threshold"]
    try:
        freedom = tuple(float(n) for n in options["dof"].split(",")) if options["dof"] else None
    except ValueError as error:
        raise click.UsageError(f"--dof {options['dof']!r}: expected one or two numbers") from error
    return Threshold(
        options["statistic_frame"], p=options["p_value"], fdr=options["fdr"], dof=freedom,
        side=options["one_sided"] or "both", statistic=options["statistic"],
    )  # fmt: skip


def _written(layers: list[Any], options: dict[str, Any], stack: Any) -> tuple[Any, list[str]]:
    """Draw and save what is asked for; return the first picture and the files."""
    from spectrane.display.sequences import save_animated, save_numbered
    from spectrane.display.slices import frame_sequence, slice_sequence

    _check_ways(options)
    target, overwrite = options["output"], options["overwrite"]
    count, frames = options["sequence"] or options["animated"], options["through_frames"]
    if not count and not frames:
        picture = _drawn(layers, options, stack)
        picture.save(target, overwrite=overwrite)
        return picture, [target]
    plane = "axial" if options["plane"] == "all" else options["plane"]
    given = _page_options(options)
    if frames:
        at = options["at"][0] if options["at"] else None
        count = len(layers[0].source.bands)
        waiting = frame_sequence(layers, plane, at=at, index=options["index"], **given)
    else:
        waiting = slice_sequence(layers, plane, count=count, span=options["span"], **given)
    first = next(waiting)
    pictures = itertools.chain([first], waiting)  # one at a time: many would fill the memory
    if options["sequence"] or frames == "numbered":
        return first, save_numbered(pictures, target, count, overwrite=overwrite)
    save_animated(pictures, target, count, milliseconds=options["pace"], overwrite=overwrite)
    return first, [target]


def _check_ways(options: dict[str, Any]) -> None:
    """Raise UsageError for options that do not go together."""
    names = ("montage", "sequence", "animated", "through_frames")
    chosen = [name for name in names if options[name] is not None]
    many = any(name != "through_frames" for name in chosen)
    placed = options["at"] or options["index"] is not None
    if len(chosen) > 1:
        raise click.UsageError("say one of --montage, --sequence, --animated and --frames")
    if many and (options["point"] or placed):
        raise click.UsageError("many slices: say where by --span, not --at, --index or --point")
    if chosen and (options["slab"] or options["beside"]):
        raise click.UsageError("--slab and --beside are for one slice")
    if options["beside"] and options["plane"] == "all":
        raise click.UsageError("--beside shows one plane: say --plane")
    if options["axes"] == "own" and options["index"] is not None:
        raise click.UsageError("--index takes a stored plane, which lies on the own axes already")


def _page_options(options: dict[str, Any]) -> dict[str, Any]:
    """Return what all pictures take alike."""
    return {"side": options["side"], "size": options["size"], "labels": not options["plain"],
            "axes": options["axes"]}  # fmt: skip


def _drawn(layers: list[Any], options: dict[str, Any], stack: Any) -> Any:
    from spectrane.display.slices import beside, montage, slice_picture, three_planes
    from spectrane.opening import open as open_any

    plane = options["plane"]
    given = _page_options(options)
    if options["montage"]:
        chosen = "axial" if plane == "all" else plane
        return montage(layers, chosen, count=options["montage"], span=options["span"], **given)
    if plane == "all":
        if options["at"] or options["index"] is not None or options["slab"]:
            raise click.UsageError("--at, --index and --slab are for one plane; say which")
        return three_planes(layers, options["point"], **given)
    if options["point"]:
        raise click.UsageError("--point is for three planes; say --at")
    at = options["at"][0] if options["at"] else None
    if options["beside"]:
        if options["index"] is not None or options["slab"]:
            raise click.UsageError("--beside compares at the same millimetre: say --at")
        second = stack.enter_context(open_any(options["beside"]))
        other = [_likened(second, layers[0], options), *layers[1:]]
        return beside([layers, other], plane, at=at, **given)
    return slice_picture(layers, plane, at=at, index=options["index"], slab=options["slab"],
                         project=options["project"], **given)  # fmt: skip


def _tell_groups(groups: list[dict[str, Any]]) -> None:
    if not groups:
        return
    click.echo(f"  {'group':>5}{'voxels':>8}{'mm3':>10}{'peak':>9}   peak at x, y, z (mm)")
    for one in groups[:20]:
        place = ", ".join(f"{one[f'peak_{axis}']:.1f}" for axis in "xyz")
        click.echo(f"  {one['number']:>5}{one['voxels']:>8}{one['volume']:>10.0f}"
                   f"{one['peak']:>9.3g}   {place}")  # fmt: skip
