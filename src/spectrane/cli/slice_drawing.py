"""What ``slices`` draws: its layers, and the pictures of them."""

from __future__ import annotations

import contextlib
import itertools
import os
from dataclasses import replace
from typing import TYPE_CHECKING, Any, get_args

import click

from spectrane.analysis.grouping import Neighbours
from spectrane.analysis.thresholds import Threshold
from spectrane.cli.looks import limits_given
from spectrane.cli.values import each
from spectrane.kernels.records import record
from spectrane.model.look import Look
from spectrane.spatial.slicing import PlaneName

if TYPE_CHECKING:
    from spectrane.cli.slice_options import MapOptions, SlicesOptions
    from spectrane.display.picture import Picture
    from spectrane.spatial.oblique import Oblique
    from spectrane.volume import Volume

OF_A_MAP = ("measure", "threshold", "p", "fdr", "statistic", "statistic_frame", "dof",
             "one_sided", "least", "neighbours", "faded", "map_limits", "map_colormap",
             "map_opacity")  # fmt: skip
_OF_GROUPS = ("apart", "csv", "survivors")
_NEIGHBOURS: dict[str, Neighbours] = {str(number): number for number in get_args(Neighbours)}
LABELS = 0.5
"""How opaque labels are over anatomy, where nothing else is said."""
_OF_P = ("statistic", "statistic_frame", "dof", "one_sided")


@record(frozen=True)
class DrawnSlices:
    """The first picture, its layers, the files that were written, and the map's groups."""

    picture: Picture
    layers: list[Any]
    written: list[str]
    groups: list[dict[str, Any]]


def check_ways(options: SlicesOptions) -> None:
    """Raise UsageError for options that do not go together."""
    names = ("montage", "sequence", "animated", "frames")
    chosen = [name for name in names if getattr(options, name) is not None]
    many = [name for name in chosen if name != "frames"]
    if len(chosen) > 1:
        raise click.UsageError("say one of --montage, --sequence, --animated and --frames")
    if many:
        options.refuse(["at", "index"], f"with --{many[0]}: many slices are placed by --span")
    else:
        options.refuse(["span"], "without --montage, --sequence or --animated")
    if chosen:
        options.refuse(["slab", "beside"], f"with --{chosen[0]}, only for one slice")
    if options.animated is None and options.frames != "animated":
        options.refuse(["pace"], "without --animated or --frames animated")
    if not options.slab:
        options.refuse(["project"], "without --slab")
    if not options.beside:
        options.refuse(["mode"], "without --beside")
    if not options.threshold and options.p is None and options.fdr is None:
        options.refuse(_OF_GROUPS, "without --map and a threshold: there are no groups")
    _check_place(options, bool(chosen))


def _check_place(options: SlicesOptions, many: bool) -> None:
    """Raise UsageError for a place that does not fit the planes."""
    if options.plane == "oblique":
        _check_oblique(options, many)
        return
    options.refuse(["normal", "through", "up"], "without --plane oblique")
    if options.axes == "own":
        options.refuse(["index"], "with --axes own: a stored plane lies on the own axes already")
    if options.at is not None and options.index is not None:
        raise click.UsageError("say one of --at and --index")
    if options.plane == "all" and not many:
        options.refuse(["index", "slab", "beside"], "by three planes; say which: --plane")
        if options.at is not None and len(options.at) != 3:
            raise click.UsageError("--at: three planes meet at X,Y,Z in mm; for one say --plane")
    elif options.at is not None and len(options.at) != 1:
        raise click.UsageError("--at: one plane is cut at one number, in mm")
    if options.beside:
        options.refuse(["index", "slab"], "with --beside, which compares at --at MM")


def _check_oblique(options: SlicesOptions, many: bool) -> None:
    """Raise UsageError for an oblique plane that is not said, or said twice."""
    if many or options.frames:
        raise click.UsageError("one oblique plane is drawn; leave out --montage, --sequence, "
                               "--animated and --frames")  # fmt: skip
    options.refuse(["index"], "by an oblique plane, which lies between stored ones")
    if options.axes == "own":
        options.refuse(["axes"], "by an oblique plane: its points are in mm of the patient")
    if options.through is not None:
        options.refuse(["at", "normal"], "with --through: three points are a plane")
    elif options.at is None or len(options.at) != 3 or options.normal is None:
        raise click.UsageError("--plane oblique: say --at X,Y,Z and --normal X,Y,Z, or --through "
                               "X,Y,Z X,Y,Z X,Y,Z")  # fmt: skip
    if options.beside:
        options.refuse(["slab"], "with --beside")


def oblique_of(options: SlicesOptions) -> Oblique | None:
    """Return the oblique plane that is asked for."""
    if options.plane != "oblique":
        return None
    from spectrane.spatial.oblique import Oblique

    if options.through is not None:
        return Oblique.through(options.through, options.up)
    assert options.at is not None
    assert options.normal is not None
    return Oblique(options.at, options.normal, options.up)


def draw_slices(
    volume: Volume, target: str, options: SlicesOptions, stack: contextlib.ExitStack
) -> DrawnSlices:
    """Draw a volume as asked, with what is laid over it, and save the pictures."""
    layers = [anatomy(volume, options), *laid_layers(options, stack)]
    groups = _groups(layers, options) if options.map else []
    picture, written = _written(layers, target, options, stack)
    return DrawnSlices(picture, layers, written, groups)


def _groups(layers: list[Any], options: SlicesOptions) -> list[dict[str, Any]]:
    """Return the groups of the map, with their peaks and the labels under them."""
    from spectrane.groups import cluster_rows
    from spectrane.volume import Volume

    labels = Volume(layers[-1].source) if options.labels else None
    return cluster_rows(layers[1], labels=labels, apart=options.apart)


def save_groups(drawn: DrawnSlices, options: SlicesOptions) -> list[str]:
    """Write the table of groups, and what survives other thresholds, as asked; return the files."""
    if options.csv:
        from pandas import DataFrame

        from spectrane.display.groups import peak_rows
        from spectrane.engine.csv_text import write_csv

        write_csv(DataFrame(peak_rows(drawn.groups)), options.csv, overwrite=options.overwrite)
    if options.survivors:
        from spectrane import figures
        from spectrane.groups import survivors

        figure = figures.survivors(survivors(drawn.layers[1]))
        figures.save_figure(figure, options.survivors, overwrite=options.overwrite)
    return [one for one in (options.csv, options.survivors) if one]


def laid_layers(options: MapOptions, stack: contextlib.ExitStack) -> list[Any]:
    """Return the layers of what is laid over a volume: a map, then labels."""
    from spectrane.opening import open_volume

    layers = []
    laid = [name for name in ("map", "labels") if getattr(options, name)]
    shares = each(options.opacity, len(laid), "--opacity", float, 1.0)
    if options.map:
        layers.append(_map(stack.enter_context(open_volume(options.map)), shares[0], options))
    else:
        options.refuse(OF_A_MAP, "without --map")
    if options.labels:
        labels = stack.enter_context(open_volume(options.labels))
        made = _labels(labels, shares[-1], options)
        areas = options.opacity is None and not made.rims
        layers.append(replace(made, opacity=LABELS) if areas else made)
    else:
        options.refuse(["label_outlines", "show_labels"], "without --labels")
    return layers


def anatomy(volume: Volume, options: Any) -> Any:
    """Return the volume as the lowest layer, in the look that the options say."""
    from spectrane.display.volume_layers import VolumeLayer

    given: dict[str, Any] = {"invert": True} if options.invert else {}
    given |= {"colormap": options.colormap} if options.colormap else {}
    given |= {"limits": limits_given(options.limits)} if options.limits else {}
    return VolumeLayer(volume, replace(volume.look or Look(), **given), frame=options.frame)


def _likened(volume: Volume, first: Any, options: SlicesOptions) -> Any:
    """Return a second volume under the first one's limits, where both measure in one unit."""
    from spectrane.display.volume_layers import planned_volume

    scales = planned_volume(first).scales
    unit = scales[0].unit if len(scales) == 1 else None
    made = anatomy(volume, options)
    if unit is None or unit != volume.frames[0].unit:
        return made
    return replace(made, look=replace(made.look, limits=(scales[0].low, scales[0].high)))


def _labels(volume: Volume, opacity: float, options: MapOptions) -> Any:
    """Return labels in the colours of their file, or in ones of their own."""
    from spectrane.display.volume_layers import VolumeLayer
    from spectrane.model.labels import chosen_classes

    known = volume.look is not None and volume.look.classes
    labels = volume if known else volume.as_labels()
    look = labels.look or Look()
    if options.show_labels is not None:
        asked = [one.strip() for one in options.show_labels.split(",")]
        look = replace(look, classes=chosen_classes(look.classes, asked))
    return VolumeLayer(labels, look, opacity=opacity, rims=options.label_outlines)


def _map(volume: Volume, opacity: float, options: MapOptions) -> Any:
    from spectrane.display.volume_layers import VolumeLayer

    least, in_mm3 = options.least
    if isinstance(options.map_opacity, float):
        opacity = options.map_opacity
    given: dict[str, Any] = {"colormap": options.map_colormap} if options.map_colormap else {}
    given |= {"limits": limits_given([options.map_limits])} if options.map_limits else {}
    return VolumeLayer(
        volume, Look(**given), opacity=opacity,
        threshold=_threshold(options), frame=options.measure, least=least, in_mm3=in_mm3,
        neighbours=_NEIGHBOURS[options.neighbours], faded=options.faded,
        by_value=options.map_opacity == "value",
    )  # fmt: skip


def _threshold(options: MapOptions) -> Any:
    ways = (options.threshold, options.p, options.fdr)
    if sum(way is not None for way in ways) > 1:
        raise click.UsageError("say one of --threshold, --p and --fdr")
    if options.p is None and options.fdr is None:
        options.refuse(_OF_P, "without --p or --fdr")
        return options.threshold
    try:
        freedom = tuple(float(n) for n in options.dof.split(",")) if options.dof else None
    except ValueError as error:
        raise click.UsageError(f"--dof {options.dof!r}: expected one or two numbers") from error
    return Threshold(
        options.statistic_frame, p=options.p, fdr=options.fdr, dof=freedom,
        side=options.one_sided or "both", statistic=options.statistic,
    )  # fmt: skip


def test_words(options: MapOptions) -> list[str]:
    """Return the options that say a map's test by p or false discovery rate, as they are typed."""
    if options.p is None and options.fdr is None:
        return []
    given = {"--p": options.p, "--fdr": options.fdr, "--statistic": options.statistic,
             "--statistic-frame": options.statistic_frame, "--dof": options.dof,
             "--one-sided": options.one_sided}  # fmt: skip
    return [word for name, value in given.items() if value is not None
            for word in (name, str(value))]  # fmt: skip


def _written(
    layers: list[Any], target: str, options: SlicesOptions, stack: contextlib.ExitStack
) -> tuple[Picture, list[str]]:
    """Draw and save what is asked for; return the first picture and the files."""
    from spectrane.display.sequences import save_animated, save_numbered
    from spectrane.display.slices import frame_sequence, slice_sequence

    overwrite = options.overwrite
    count = options.sequence or options.animated
    if not count and not options.frames:
        picture = _picture(layers, options, stack)
        picture.save(target, overwrite=overwrite)
        return picture, [target]
    plane: PlaneName = "axial" if options.plane in ("all", "oblique") else options.plane  # type: ignore[assignment]
    given = _on_paper(options)
    if options.frames:
        at = options.at[0] if options.at else None
        count = len(layers[0].source.bands)
        waiting = frame_sequence(layers, plane, at=at, index=options.index, **given)
    else:
        assert count is not None
        waiting = slice_sequence(layers, plane, count=count, span=options.span, **given)
    first = next(waiting)
    pictures = itertools.chain([first], waiting)  # one at a time: many would fill the memory
    if options.sequence or options.frames == "numbered":
        return first, save_numbered(pictures, target, count, overwrite=overwrite)
    save_animated(pictures, target, count, milliseconds=options.pace, overwrite=overwrite)
    return first, [target]


def _on_paper(options: SlicesOptions) -> dict[str, Any]:
    """Return what all pictures take alike."""
    return {"side": options.side, "size": options.size, "labels": not options.plain,
            "axes": options.axes}  # fmt: skip


def _picture(layers: list[Any], options: SlicesOptions, stack: contextlib.ExitStack) -> Picture:
    from spectrane.display.slices import compare_slices, montage, slice_picture, three_planes

    plane, given = options.plane, _on_paper(options)
    if options.montage:
        chosen: PlaneName = "axial" if plane in ("all", "oblique") else plane  # type: ignore[assignment]
        return montage(layers, chosen, count=options.montage, span=options.span, **given)
    if plane == "all":
        return three_planes(layers, options.at, **given)
    oblique = oblique_of(options)
    at = options.at[0] if options.at and oblique is None else None
    if options.beside:
        other = [_likened(_beside(options, stack), layers[0], options), *layers[1:]]
        return compare_slices([layers, other], plane, at=at, oblique=oblique, mode=options.mode,
                              **given)  # fmt: skip
    return slice_picture(layers, plane, at=at, index=options.index, slab=options.slab,
                         project=options.project, oblique=oblique, **given)  # fmt: skip


def _beside(options: SlicesOptions, stack: contextlib.ExitStack) -> Volume:
    """Return the second volume: a file, or a member of the first one by number or name."""
    from spectrane.opening import open_volume

    asked = str(options.beside)
    if "://" in asked or os.path.exists(asked):
        return stack.enter_context(open_volume(asked))
    given = options.opening(0, len(options.files)) | {"member": int(asked) if asked.isdigit()
                                                      else asked}  # fmt: skip
    return stack.enter_context(open_volume(options.files[0], **given))
