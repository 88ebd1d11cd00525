"""``spectrane histogram``: the values, the limits on them, and what is shown."""

from __future__ import annotations

import json
from typing import Any

import click

from spectrane.cli.common import (
    Size,
    examples,
    opening_of,
    opening_options,
    refuse,
    shared_options,
    told_warnings,
)
from spectrane.cli.looks import (
    AREA_NAMES,
    area_options,
    computed,
    look_fields,
    look_for,
    look_options,
    view_of,
)


@click.command("histogram")
@click.argument("file")
@click.option("--output", "-o", type=click.Path(), help="The figure: .png, .pdf or .svg.")
@look_options
@area_options
@click.option("--size", type=Size(), default="1280x800", help="Pixels of the figure.")
@opening_options
@click.option("--overwrite", is_flag=True, help="Replace a figure that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON, with the counts.")
@shared_options
@examples(
    "histogram demo/sound_8band.tif --nodata 0 --limits percentile:2,98 -o values.png",
    "histogram demo/comet.fits --limits percentile:1,99.9 --curve log:3 -o comet.png",
    "histogram demo/fetlock_ct --limits window:2 -o joint.png",
)
def command(file: str, **options: Any) -> None:
    """Draw how often values occur, where the limits lie, and what comes out, per channel.

    Of a volume, all its voxels count; --channels names the frame.
    """
    from spectrane.opening import open as open_any
    from spectrane.raster import Raster

    fields = look_fields(options)
    view = view_of(options)
    if options["output"] is None and not options["as_json"]:
        raise click.UsageError("say where the figure goes: -o OUT.png, or ask for --json")
    with (
        told_warnings(options["quiet"] or options["as_json"]),
        open_any(file, **opening_of(options)) as opened,
    ):
        flat = isinstance(opened, Raster)
        if not flat:
            refuse(["nodata", "nodata_when", "compute", "unit", *AREA_NAMES], "of volumes")
        if options["output"] is None:
            refuse(["size"], "without -o")
        shown = computed(opened, options) if flat else opened
        look = look_for(shown, options, fields)
        _answer(shown._source, look, view, options)


def _answer(source: Any, look: Any, view: Any, options: dict[str, Any]) -> None:
    from spectrane.display.shown_values import shown_values

    channels = shown_values(source, look, view)
    if options["output"] is not None:
        from spectrane.figures.histogram import drawn
        from spectrane.figures.paper import save

        figure = drawn(channels, source, options["size"])
        save(figure, options["output"], overwrite=options["overwrite"])
    if options["as_json"]:
        click.echo(json.dumps([_facts(one) for one in channels]))
    elif not options["quiet"]:
        click.echo(options["output"])
        for one in channels:
            click.echo(
                f"  {one.channel:<5} = {one.band} {one.low:.6g} to {one.high:.6g}: "
                f"{one.below:.1%} below, {one.above:.1%} above, {one.invalid} invalid"
            )


def _facts(one: Any) -> dict[str, Any]:
    return {
        "channel": one.channel, "band": one.band, "unit": one.unit, "low": one.low,
        "high": one.high, "rule": one.rule, "below": one.below, "above": one.above,
        "invalid": one.invalid, "complete": one.complete, "counts": one.counts.tolist(),
        "edges": one.edges.tolist(), "levels": one.levels.tolist(),
    }  # fmt: skip
