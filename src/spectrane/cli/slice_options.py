"""What ``slices`` takes: which slices, what is laid over them, and how they are shown."""

from __future__ import annotations

from typing import Literal

import click

from spectrane.analysis.grouping import NEIGHBOURS
from spectrane.analysis.thresholds import ONE_SIDED, STATISTICS, OneSided
from spectrane.cli import vocabulary as words
from spectrane.cli.files import OpeningOptions
from spectrane.cli.options import argument, option
from spectrane.cli.values import Least, MapOpacity, Numbers, Range
from spectrane.kernels.records import record
from spectrane.model.statistic import StatisticKind
from spectrane.spatial.slicing import (
    AXES,
    PLANES,
    PROJECTIONS,
    SIDES,
    SLICE_MODES,
    AnyPlane,
    Projection,
    SliceMode,
)


@record(frozen=True)
class ManyCutOptions(OpeningOptions):
    """Which slices stand beside one another, and how they lie."""

    plane: AnyPlane | Literal["all"] = option(
        "--plane", group="Place", type=click.Choice([*PLANES, "oblique", "all"]), default="all",
        help="One plane, or all three through a point.",
    )  # fmt: skip
    montage: int | None = option("--montage", group="Place", type=click.IntRange(1, 400),
                                 help="So many slices, evenly spread.")  # fmt: skip
    span: tuple[float, float] | None = option(
        "--span", group="Place", type=Range(both=True),
        help="Many slices: from LOW..HIGH mm; else what is not empty.",
    )  # fmt: skip
    side: str = option("--side", group="Place", type=click.Choice(SIDES), default="radiological",
                       help="The patient's right on the left, or on the right.")  # fmt: skip
    axes: str = option("--axes", group="Place", type=click.Choice(AXES), default="patient",
                       help="Planes of the patient, or along the volume's own axes.")  # fmt: skip


@record(frozen=True)
class CutOptions(ManyCutOptions):
    """Which slices, and how they lie on the picture."""

    at: tuple[float, ...] | None = words.position()
    normal: tuple[float, ...] | None = option(
        "--normal", group="Place", type=Numbers(3, "X,Y,Z"),
        help="What an oblique plane through --at X,Y,Z is square to.",
    )  # fmt: skip
    through: tuple[tuple[float, ...], ...] | None = option(
        "--through", group="Place", type=Numbers(3, "X,Y,Z"), nargs=3, default=None,
        help="Or the three points that an oblique plane goes through, in mm.",
    )  # fmt: skip
    up: tuple[float, ...] | None = option("--up", group="Place", type=Numbers(3, "X,Y,Z"),
                                          help="What points upward in it.")  # fmt: skip
    index: int | None = option("--index", group="Place", type=click.IntRange(0),
                               help="Or a stored plane, from 0.")  # fmt: skip
    sequence: int | None = option("--sequence", group="Place", type=click.IntRange(1, 400),
                                  help="Or in numbered files: OUT-01.png, …")  # fmt: skip
    animated: int | None = option("--animated", group="Place", type=click.IntRange(2, 400),
                                  help="Or in one moving picture.")  # fmt: skip
    frames: str | None = option(
        "--frames", group="Place", type=click.Choice(["animated", "numbered"]),
        help="One slice in every frame: in a moving picture, or in files.",
    )  # fmt: skip
    beside: str | None = option(
        "--beside", group="Place", type=click.Path(),
        help="A second volume at the same mm, to its right; or a member of the same file.",
    )  # fmt: skip
    mode: SliceMode = option(
        "--mode", group="Place", type=click.Choice(SLICE_MODES), default="panels",
        help="With --beside: side by side, or in alternating squares.",
    )  # fmt: skip
    slab: float = option("--slab", group="Place", type=float, default=0.0,
                         help="A thickness in mm that is projected.")  # fmt: skip
    project: Projection = option("--project", group="Place", type=click.Choice(PROJECTIONS),
                          default="maximum", help="What is taken of a slab.")  # fmt: skip


@record(frozen=True)
class MapOptions(OpeningOptions):
    """What is laid over a volume, and where it is shown."""

    map: str | None = option("--map", group="Map", type=click.Path(),
                             help="A volume of measures laid over it.")  # fmt: skip
    labels: str | None = option("--labels", group="Map", type=click.Path(),
                                help="A volume of labels laid over it.")  # fmt: skip
    label_outlines: bool = option("--label-outlines", group="Map", is_flag=True,
                                  help="Only lines around labels.")  # fmt: skip
    show_labels: str | None = option("--show-labels", group="Map", metavar="NAME,…",
                                     help="These labels only, by name or number.")  # fmt: skip
    measure: str = option("--measure", group="Map", default="1",
                          help="The map's frame that gives the colour.")  # fmt: skip
    threshold: str | None = option("--threshold", group="Map", metavar="EXPRESSION",
                                   help="Where the map is shown: 'abs(t) >= 5'.")  # fmt: skip
    p: float | None = option("--p", group="Map", type=float,
                             help="Or: where the statistic has p below this.")  # fmt: skip
    fdr: float | None = option("--fdr", group="Map", type=float,
                               help="Or: at this false discovery rate.")  # fmt: skip
    statistic: StatisticKind | None = option(
        "--statistic", group="Map", type=click.Choice(STATISTICS),
        help="What statistic it is; if unsaid what the file says, else t.",
    )  # fmt: skip
    statistic_frame: str | None = option(
        "--statistic-frame", group="Map", metavar="NAME",
        help="The map's frame with the statistic; if unsaid the one that has it.",
    )  # fmt: skip
    dof: str | None = option(
        "--dof", group="Map", help="Degrees of freedom, if the file does not say; two of F: 2,30.",
    )  # fmt: skip
    one_sided: OneSided | None = option("--one-sided", group="Map", type=click.Choice(ONE_SIDED),
                                   help="Only one side of the statistic counts.")  # fmt: skip
    least: tuple[float, bool] = option("--least", group="Map", type=Least(), default=(0.0, False),
                                       show_default="0",
                                       help="Leave out smaller groups: 20, or 50mm3.")  # fmt: skip
    neighbours: str = option(
        "--neighbours", group="Map", type=click.Choice([str(n) for n in NEIGHBOURS]), default="26",
        help="Voxels of a group touch by faces, edges too, or corners too.",
    )  # fmt: skip
    faded: float = option(
        "--faded",
        group="Map",
        type=click.FloatRange(0, 1, max_open=True),
        default=0.0,
        help="Show what fails too, this faint, outlined at the threshold.",
    )
    map_limits: str | None = option(
        "--map-limits", group="Map", metavar="RULE",
        help="The map's limits; if unsaid from 0, or about 0, to the extreme of what is shown.",
    )  # fmt: skip
    map_colormap: str | None = option(
        "--map-colormap", group="Map", metavar="NAME",
        help="The map's colours; if unsaid by the signs that it has.",
    )  # fmt: skip
    map_opacity: float | str | None = option(
        "--map-opacity", group="Map", type=MapOpacity(),
        help="value: the map's opacity grows with its value; or a share, 0 to 1.",
    )  # fmt: skip
    opacity: str | None = words.opacity()


@record(frozen=True)
class SlicesOptions(MapOptions, CutOptions):
    """What ``slices`` takes."""

    files: tuple[str, ...] = argument("VOLUME...", many=True, required=True)
    output: str | None = words.output("The picture (.png).")
    out_dir: str | None = words.out_dir()
    frame: str = words.frame()
    limits: tuple[str, ...] = words.limits()
    colormap: str | None = words.colormap()
    invert: bool = words.invert()
    plain: bool = option("--plain", group="Output", is_flag=True,
                         help="Without letters, captions and colour bars.")  # fmt: skip
    apart: float = option("--apart", group="Map", metavar="MM", type=click.FloatRange(0),
                          default=0.0, show_default="three of the longest voxel side",
                          help="How far from one another peaks of a group are.")  # fmt: skip
    survivors: str | None = option(
        "--survivors", group="Output", type=click.Path(),
        help="What survives at each threshold, as a figure (.png, .pdf, .svg).",
    )  # fmt: skip
    csv: str | None = words.csv()
    pace: int = words.pace(100)
    size: tuple[int, int] = words.size((800, 1280))
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()
