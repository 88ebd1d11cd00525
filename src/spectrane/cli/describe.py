"""``spectrane describe``: what a raster is."""

from __future__ import annotations

import json
import math
import os
import warnings
from typing import Any

import click

from spectrane.cli.common import examples, progress_bar, shared_options, told_warnings


@click.command("describe")
@click.argument("file")
@click.option("--statistics", is_flag=True, help="Read every pixel and add statistics per band.")
@click.option("--metadata", is_flag=True, help="Add everything the file says.")
@click.option("--member", type=click.IntRange(min=1), help="Which image of the file, from 1.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "describe demo/sound_8band.tif",
    "describe demo/sound_8band.tif --statistics --json",
)
def command(
    file: str, statistics: bool, metadata: bool, member: int | None, as_json: bool, quiet: bool
) -> None:
    """Say what a raster is: size, type, bands, place, no-data, and what looks wrong."""
    import spectrane.raster
    from spectrane.analysis import statistics as measuring
    from spectrane.analysis.description import describe, printable, unnamed_fill
    from spectrane.model.errors import DataWarning

    with (
        told_warnings(quiet or as_json) as told,
        spectrane.raster.open(file, member=member) as raster,
    ):
        source = raster._source
        found: list[measuring.BandStatistics] = []
        if statistics:
            with progress_bar("reading", quiet) as progress:
                bands = range(len(source.bands))
                found = measuring.band_statistics(source, bands, None, progress)
        said = describe(source, found)
        doubt = unnamed_fill(source, found)
        if doubt:
            warnings.warn(f"{os.path.basename(file)}: {doubt}", DataWarning, stacklevel=1)
    if as_json:
        facts = said.to_dict() | {"warnings": told}
        facts |= {"metadata": dict(source.metadata)} if metadata else {}
        click.echo(json.dumps(_plain(facts), indent=2))
        return
    click.echo(str(said))
    if metadata:
        click.echo("\nMetadata")
        for name, value in source.metadata.items():
            click.echo(f"  {name}: {printable(_shortened(value))}")


def _plain(value: Any) -> Any:
    """Bring a value to what JSON can hold: NaN becomes null, bytes text."""
    if isinstance(value, dict):
        return {str(key): _plain(item) for key, item in value.items()}
    if isinstance(value, list | tuple):
        return [_plain(item) for item in value]
    if isinstance(value, bytes):
        return value.decode("utf-8", "replace")
    if isinstance(value, float) and not math.isfinite(value):
        return None if math.isnan(value) else ("inf" if value > 0 else "-inf")
    return value


def _shortened(value: Any) -> str:
    text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
    return text if len(text) <= 400 else f"{text[:400]}… ({len(text)} characters)"
