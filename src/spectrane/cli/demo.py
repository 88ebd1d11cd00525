"""``spectrane demo``: the demo data, and the whole example on it."""

from __future__ import annotations

import json
from pathlib import Path

import click

from spectrane.cli.common import examples, progress_bar, shared_options, told_warnings


@click.command("demo")
@click.argument("folder", default="demo", type=click.Path(), metavar="[DIR]")
@click.option("--scale", type=click.FloatRange(0.05, 20), default=1.0, help="Pixels a side, times.")
@click.option("--data-only", is_flag=True, help="Write the data and leave out the example.")
@click.option("--overwrite", is_flag=True, help="Replace demo files that exist.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "demo",
    "demo big --scale 4 --data-only",
)
def command(
    folder: str, scale: float, data_only: bool, overwrite: bool, as_json: bool, quiet: bool
) -> None:
    """Write the demo data into DIR (demo) and run the whole example on it."""
    from spectrane.demo.example import run_example
    from spectrane.demo.files import write_demo

    written: list[str] = []

    def told(path: Path, what: str) -> None:
        written.append(str(path))
        if not (quiet or as_json):
            click.echo(f"wrote {path}  {what}")

    target = Path(folder)
    with told_warnings(quiet), progress_bar("making the demo", quiet):
        write_demo(target, scale=scale, overwrite=overwrite, told=told)
        if not data_only:
            run_example(target, overwrite=overwrite, told=told)
    if as_json:
        click.echo(json.dumps({"folder": str(target), "files": written}))
    elif not quiet:
        click.echo(f"\nLook at it: spectrane describe {target / 'sound_8band.tif'} --statistics")
