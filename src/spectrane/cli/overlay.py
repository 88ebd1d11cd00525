"""``spectrane overlay``: rasters and outlines on one another, as one picture."""

from __future__ import annotations

import contextlib
import json
from typing import Any

import click

from spectrane.cli.common import Size, counted, examples, shared_options, told_warnings
from spectrane.cli.layering import layer_options, layers_of
from spectrane.cli.looks import area_of, view_of
from spectrane.model.whole_files import check_target


@click.command("overlay")
@click.argument("files", nargs=-1, metavar="[FILE...]")
@click.option("--output", "-o", type=click.Path(), required=True, help="The picture (.png).")
@layer_options
@click.option("--size", type=Size(), help="Pixels of the picture.")
@click.option("--overwrite", is_flag=True, help="Replace a picture that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "overlay demo/sound_8band.tif demo/sound_thermal.tif --opacity 1,0.6 --colormap auto "
    "--nodata 0 --outline demo/lease.geojson --label name -o both.png",
    "overlay --layers demo/sound.layers.toml -o map.png --size 1280x800",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Lay files on one another, the first the lowest, on the first one's grid.

    Each has its own look; grids and systems may differ. A layer file keeps it all for next time.
    """
    from spectrane.together import stack as draw

    check_target(options["output"], overwrite=options["overwrite"])
    view = view_of(options, options["size"])
    with (
        told_warnings(options["quiet"] or options["as_json"]) as told,
        contextlib.ExitStack() as opened,
    ):
        layers, grid = layers_of(files, options, opened)
        drawn = draw(layers, grid=grid, view=view, area=area_of(options))
        picture = drawn.picture()
        picture.save(options["output"], overwrite=options["overwrite"])
    rows, columns = picture.rgba.shape[:2]
    if options["as_json"]:
        listed = [{"name": one.title, "opacity": one.layer.opacity, "mode": one.mode,
                   "scales": [str(s) for s in one.scales]}
                  for one in drawn.layers]  # fmt: skip
        click.echo(json.dumps({"picture": options["output"], "rows": rows, "columns": columns,
                               "layers": listed, "notes": list(drawn.notes),
                               "told": told}))  # fmt: skip
    elif not options["quiet"]:
        click.echo(
            f"{options['output']}: {columns} x {rows}, {counted(len(drawn.layers), 'layer')}"
        )
        for note in drawn.notes:
            click.echo(f"  {note}")
        for one in drawn.layers:
            said = "; ".join(str(scale) for scale in one.scales)
            click.echo(f"  {one.title}: opacity {one.layer.opacity:g}, {one.mode}"
                       + (f"; {said}" if said else ""))  # fmt: skip
