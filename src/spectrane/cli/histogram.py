"""``spectrane histogram``: the values, the limits on them, and what is shown."""

from __future__ import annotations

from typing import Any

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, for_each
from spectrane.cli.files import OpeningOptions, targets
from spectrane.cli.looks import AREA_NAMES, AreaOptions, LookOptions
from spectrane.cli.options import argument, command_of
from spectrane.cli.written import file_facts, size_text
from spectrane.kernels.records import record
from spectrane.model.printing import share_text
from spectrane.model.whole_files import check_target


@record(frozen=True)
class HistogramOptions(LookOptions, AreaOptions, OpeningOptions):
    """What ``histogram`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    output: str | None = words.output("The figure: .png, .pdf or .svg.")
    out_dir: str | None = words.out_dir()
    size: tuple[int, int] = words.size((800, 1280))
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("histogram", HistogramOptions, examples=(
    "histogram demo/sound_8band.tif --nodata 0 --limits percentile:2,98 -o values.png",
    "histogram demo/comet.fits --limits percentile:1,99.9 --curve log:3 -o comet.png",
    "histogram demo/fetlock_ct --limits window:2 -o joint.png",
))  # fmt: skip
def command(options: HistogramOptions) -> None:
    """Draw how often values occur, where the limits lie, and what comes out, per channel.

    Of a volume, all its voxels count; --channels names the frame. With --json the counts are told,
    and a figure is drawn only where one is asked for.
    """
    files = options.files
    drawn = options.output is not None or options.out_dir is not None
    places: dict[str, str] = {}
    if drawn or not options.as_json:
        places = targets(files, options.output, options.out_dir, ".png")
    else:
        options.refuse(["size", "overwrite"], "without -o or --out-dir")
    fields = options.look_fields()
    with answering(options) as answer:
        for_each(files, lambda file: _one(file, places.get(file), fields, options, answer),
                 answer)  # fmt: skip


_OF_RASTERS = AREA_NAMES | {"nodata", "nodata_when", "compute", "unit", "limits_from",
                            "limits_region"}  # fmt: skip


def _one(
    file: str, target: str | None, fields: dict[str, Any], options: HistogramOptions,
    answer: Answer,
) -> None:  # fmt: skip
    from spectrane.looking import shown_values
    from spectrane.opening import open as open_any
    from spectrane.raster import Raster

    if target is not None:
        check_target(target, overwrite=options.overwrite)
    opening = options.opening(options.files.index(file), len(options.files))
    with open_any(file, **opening) as opened:
        flat = isinstance(opened, Raster)
        if not flat:
            options.refuse(_OF_RASTERS, "of volumes")
        shown = options.computed(opened) if flat else opened
        look = options.look_for(shown, fields)
        view = options.view(shown.grid if flat else None)
        channels = shown_values(shown, look, view=view)
        if target is not None:
            from spectrane.figures import histogram, save_figure

            figure = histogram(shown, look, view=view, size=options.size, channels=channels)
            save_figure(figure, target, overwrite=options.overwrite)
    lines = [f"  {one.channel:<5} = {one.band} {one.low:.6g} to {one.high:.6g}: "
             f"{share_text(one.below)} below, {share_text(one.above)} above, {one.invalid} invalid"
             for one in channels]  # fmt: skip
    written = {"output": None} if target is None else file_facts(target)
    head = [] if target is None else [f"{target}: {size_text(target)}"]
    answer.add(written | {"input": file, "channels": [_facts(channel) for channel in channels]},
               *head, *lines, *(f"  {text}" for text in options.echo()))  # fmt: skip


def _facts(one: Any) -> dict[str, Any]:
    return {
        "channel": one.channel, "band": one.band, "unit": one.unit, "low": one.low,
        "high": one.high, "rule": one.rule, "below": one.below, "above": one.above,
        "invalid": one.invalid, "complete": one.complete, "counts": one.counts.tolist(),
        "edges": one.edges.tolist(), "levels": one.levels.tolist(),
    }  # fmt: skip
