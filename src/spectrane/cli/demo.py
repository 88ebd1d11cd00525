"""``spectrane demo``: the demo data, and the whole example on it."""

from __future__ import annotations

import os
from pathlib import Path

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import answering
from spectrane.cli.options import Options, argument, command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.cli.written import file_facts
from spectrane.kernels.records import record
from spectrane.model.trials import where_written


@record(frozen=True)
class DemoOptions(Options):
    """What ``demo`` takes."""

    folder: str = argument("[DIR]", default="demo")
    scale: float = option("--scale", group="Result", type=click.FloatRange(0.05, 20), default=1.0,
                          help="A factor: of the pixels a side.")  # fmt: skip
    data_only: bool = option("--data-only", group="Result", is_flag=True,
                             help="Write the data and leave out the example.")  # fmt: skip
    overwrite: bool = words.overwrite()


@command_of("demo", DemoOptions, examples=("demo", "demo big --scale 4 --data-only"))
def command(options: DemoOptions) -> None:
    """Write the demo data into DIR (demo) and run the whole example on it."""
    from spectrane.demo.example import run_example
    from spectrane.demo.files import write_demo

    target = Path(options.folder)
    with answering(options) as answer, progress_bar("making the demo", options.quiet):

        def told(path: Path, what: str) -> None:
            if os.path.exists(where_written(str(path))):
                answer.add(file_facts(str(path)) | {"what": what}, f"wrote {path}  {what}")
            else:
                answer.warn(f"{path}: {what}")

        write_demo(target, scale=options.scale, overwrite=options.overwrite, told=told)
        if not options.data_only:
            run_example(target, overwrite=options.overwrite, told=told)
        answer.say("", f"Look at it: spectrane describe {target / 'sound_8band.tif'} --statistics")
