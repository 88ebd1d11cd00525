"""``spectrane overlay``: rasters and outlines on one another, as one picture."""

from __future__ import annotations

import contextlib
from typing import Any

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.files import required
from spectrane.cli.layering import LayerOptions, first_grid, layers_of
from spectrane.cli.options import command_of
from spectrane.cli.written import counted, drawn_facts, size_text
from spectrane.kernels.records import record
from spectrane.model.asking import BarSide
from spectrane.model.source import called
from spectrane.model.whole_files import check_target


@record(frozen=True)
class OverlayOptions(LayerOptions):
    """What ``overlay`` takes."""

    output: str | None = words.output("The picture (.png).")
    size: tuple[int, int] | None = words.size()
    bar: BarSide | None = words.bar()
    caption: str | None = words.caption()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("overlay", OverlayOptions, examples=(
    "overlay demo/sound_8band.tif demo/sound_thermal.tif --opacity 1,0.6 --colormap auto "
    "--nodata 0 --outline demo/lease.geojson --label name -o both.png",
    "overlay --layers demo/sound.layers.toml -o map.png --size 1280x800",
))  # fmt: skip
def command(options: OverlayOptions) -> None:
    """Lay files on one another, the first the lowest, on the first one's grid.

    Each has its own look; grids and systems may differ. A layer file keeps it all for next time.
    """
    from spectrane.display.layers import Layer
    from spectrane.together import stack as draw

    output = required(options.output)
    check_target(output, overwrite=options.overwrite)
    with answering(options) as answer, contextlib.ExitStack() as opened:
        layers, grid = layers_of(options, opened)
        view = options.view(first_grid(layers, grid), options.size)
        drawn = draw(layers, grid=grid, view=view, area=options.covered)
        picture = drawn.picture()
        lowest = next((one.source for one in layers if isinstance(one, Layer)), None)
        caption = options.caption if lowest is None else words.filled(
            options.caption, lowest.metadata, called(lowest))  # fmt: skip
        picture.save(output, bar=options.bar, caption=caption, overwrite=options.overwrite)
        facts = drawn_facts(output)
        listed: list[dict[str, Any]] = [
            {"name": one.title, "opacity": one.layer.opacity, "blend": one.mode,
             "scales": [str(scale) for scale in one.scales]} for one in drawn.layers
        ]  # fmt: skip
        lines = [f"{output}: {facts['columns']} x {facts['rows']}, "
                 f"{counted(len(drawn.layers), 'layer')}, {size_text(output)}"]  # fmt: skip
        notes = [*drawn.notes, *options.echo()]
        lines += [f"  {note}" for note in notes]
        lines += ["; ".join([f"  {one['name']}: opacity {one['opacity']:g}, {one['blend']}",
                             *one["scales"]]) for one in listed]  # fmt: skip
        answer.add(
            facts | {
                "bounds": picture.grid.bounds,
                "layers": listed, "notes": notes,
            },
            *lines,
        )  # fmt: skip
