"""``spectrane describe``: what a raster is."""

from __future__ import annotations

import json
import math
from contextlib import closing
from typing import Any

import click

from spectrane.cli.common import (
    examples,
    for_each,
    opening_of,
    opening_options,
    progress_bar,
    shared_options,
    told_warnings,
)


@click.command("describe")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--statistics", is_flag=True, help="Read every pixel and add statistics per band.")
@click.option("--metadata", is_flag=True, help="Add everything the file says.")
@click.option("--members", is_flag=True, help="List the rasters inside the file instead.")
@click.option("--identity", is_flag=True, help="Show what says who a patient is; else withheld.")
@opening_options
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "describe demo/sound_8band.tif",
    "describe demo/sound_8band.tif --statistics --json",
    "describe demo/fetlock_ct",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Say what rasters are: size, type, bands, place, no-data, and what looks wrong."""
    answers: list[Any] = []

    def one(file: str) -> None:
        if options["members"]:
            answers.append(_members(file, options["as_json"]))
        else:
            answers.append(_described(file, options))

    try:
        for_each(files, one, lambda: _told(answers, options["as_json"]))
    finally:
        if options["as_json"] and answers:
            click.echo(json.dumps(_plain(answers if len(files) > 1 else answers[0]), indent=2))


def _told(answers: list[Any], as_json: bool) -> None:
    """Print what the last file was answered with; JSON of many files is one list."""
    if as_json:
        return
    click.echo(("\n" if len(answers) > 1 else "") + answers[-1])


def _members(file: str, as_json: bool) -> Any:
    from dataclasses import asdict

    from spectrane.analysis.description import printable, table
    from spectrane.formats.registry import members_of

    found = members_of(file)
    if as_json:
        return [asdict(member) for member in found]
    rows = [["Member", "Name", "Columns", "Rows", "Bands", "Type"]]
    rows += [[str(m.number), m.name, str(m.columns), str(m.rows), str(m.bands), m.dtype]
             for m in found]  # fmt: skip
    return printable("\n".join(table(rows)))


def _described(file: str, options: dict[str, Any]) -> Any:
    from spectrane.analysis import statistics as measuring
    from spectrane.analysis.description import describe, printable, without_identity
    from spectrane.analysis.volume_description import describe_volume
    from spectrane.formats.registry import open_source

    quiet, as_json = options["quiet"], options["as_json"]
    with (
        told_warnings(quiet or as_json) as told,
        closing(open_source(file, **opening_of(options))) as source,
    ):
        found: list[measuring.BandStatistics] = []
        if options["statistics"]:
            with progress_bar("reading", quiet) as progress:
                bands = range(len(source.bands))
                found = measuring.band_statistics(source, bands, None, progress)
        said = (describe_volume if len(source.shape) == 3 else describe)(source, found)
    hidden = () if options["identity"] else source.identity
    metadata = without_identity(source.metadata, hidden)
    identity = {name: metadata[name] for name in source.identity if name in metadata}
    if as_json:
        facts = said.to_dict() | {"told": told}
        facts |= {"identity_values": identity} if options["identity"] else {}
        return facts | ({"metadata": metadata} if options["metadata"] else {})
    lines = [str(said)]
    for title, wanted, table in (("Identity", options["identity"], identity),
                                 ("Metadata", options["metadata"], metadata)):  # fmt: skip
        if wanted:
            lines += ["", title]
            lines += [f"  {name}: {printable(_shortened(v))}" for name, v in table.items()]
    return "\n".join(lines)


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
