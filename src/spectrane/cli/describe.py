"""``spectrane describe``: what a raster is."""

from __future__ import annotations

from typing import Any

import click

from spectrane.cli.answering import Answer, answering, for_each, json_value
from spectrane.cli.files import OpeningOptions
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.kernels.records import record


@record(frozen=True)
class DescribeOptions(OpeningOptions):
    """What ``describe`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    statistics: bool = option("--statistics", group="Result", is_flag=True,
                              help="Read every pixel and add statistics per band.")  # fmt: skip
    zones: str | None = option(
        "--zones", group="Result", type=click.Path(),
        help="Statistics of each of these shapes (GeoJSON, GeoPackage); of classes their areas.",
    )  # fmt: skip
    metadata: bool = option("--metadata", group="Result", is_flag=True,
                            help="Add everything the file says.")  # fmt: skip
    members: bool = option("--members", group="Result", is_flag=True,
                           help="List the rasters inside the file instead.")  # fmt: skip
    explain: bool = option("--explain", group="Result", is_flag=True,
                           help="Say why it is drawn black, flat, grey or odd.")  # fmt: skip
    item: bool = option("--item", group="Result", is_flag=True,
                        help="Write a STAC Item of it instead.")  # fmt: skip
    identity: bool = option("--identity", group="Result", is_flag=True,
                            help="Show what says who a patient is; else withheld.")  # fmt: skip


@command_of("describe", DescribeOptions, examples=(
    "describe demo/sound_8band.tif",
    "describe demo/sound_8band.tif --statistics --json",
    "describe demo/sound_8band.tif --explain",
    "describe demo/habitats.tif --zones demo/lease.geojson",
    "describe demo/fetlock_ct",
))  # fmt: skip
def command(options: DescribeOptions) -> None:
    """Say what rasters are: size, type, bands, place, no-data, and what looks wrong."""
    if options.members:
        options.refuse(["statistics", "zones", "metadata", "explain", "identity", "member",
                        "spacing", "choose", "damaged"],
                       "with --members: none of them is opened")  # fmt: skip
    if options.item:
        options.refuse(["statistics", "zones", "metadata", "explain", "identity", "members"],
                       "with --item")  # fmt: skip
    work = _members if options.members else _item if options.item else _described
    with answering(options) as answer:
        for_each(options.files, lambda file: work(file, options, answer), answer)


def _gap(file: str, options: DescribeOptions) -> list[str]:
    """Return an empty line between files."""
    return [] if file == options.files[0] else [""]


def _members(file: str, options: DescribeOptions, answer: Answer) -> None:
    from spectrane.analysis.description import aligned_table
    from spectrane.opening import member_rows

    found = member_rows(file)
    names = ("member", "name", "columns", "rows", "bands", "type")
    rows = [[name.capitalize() for name in names]]
    rows += [[str(member[name]) for name in names] for member in found]
    for member in found:
        answer.add({"input": file, **member})
    answer.say(*_gap(file, options), *aligned_table(rows))


def _item(file: str, options: DescribeOptions, answer: Answer) -> None:
    import json

    from spectrane.cataloguing import to_item
    from spectrane.opening import open_raster

    opening = options.opening(options.files.index(file), len(options.files))
    with open_raster(file, **opening) as raster:
        found = to_item(raster, file)
    answer.add({"input": file, "item": found})
    if not answer.quiet:
        click.echo(json.dumps(found, indent=2))  # as it is: a document, not a line


def _described(file: str, options: DescribeOptions, answer: Answer) -> None:
    from spectrane.analysis.description import without_identity
    from spectrane.model.settings import settings
    from spectrane.opening import open as open_any
    from spectrane.raster import Raster

    opening = options.opening(options.files.index(file), len(options.files))
    measures = options.statistics or options.zones is not None
    with (
        open_any(file, **opening) as opened,
        progress_bar("reading", options.quiet or not measures) as progress,
    ):
        if not isinstance(opened, Raster):
            options.refuse(["zones"], "of volumes")
        given = {} if options.zones is None else {"zones": options.zones}
        said = opened.describe(statistics=options.statistics, progress=progress, **given)
        sentences = _explained(opened, options)
    told = options.identity or settings.identity == "shown"
    hidden = () if told else opened.identity
    metadata = without_identity(opened.metadata, hidden)
    identity = {name: metadata[name] for name in opened.identity if name in metadata}
    facts = said.to_dict() | {"input": file}
    facts |= {"identity_values": json_value(identity)} if told else {}
    facts |= {"metadata": metadata} if options.metadata else {}
    facts |= {"explanation": sentences} if options.explain else {}
    tables = [("Identity", identity)] if told else []
    tables += [("Metadata", metadata)] if options.metadata else []
    answer.add(facts, *_gap(file, options), *str(said).splitlines(), *_format_tables(tables),
               *_format_sentences(sentences))  # fmt: skip


def _explained(opened: Any, options: DescribeOptions) -> list[str]:
    if not options.explain:
        return []
    from spectrane.looking import explain
    from spectrane.raster import Raster

    if not isinstance(opened, Raster):
        options.refuse(["explain"], "of volumes")
    return explain(opened)


def _format_sentences(sentences: list[str]) -> list[str]:
    return ["", "How it comes out", *(f"  {one}" for one in sentences)] if sentences else []


def _format_tables(tables: list[tuple[str, dict[str, Any]]]) -> list[str]:
    from spectrane.model.printing import printable

    lines = []
    for title, table in tables:
        lines += ["", title]
        lines += [f"  {name}: {printable(_shortened(value))}" for name, value in table.items()]
    return lines


def _shortened(value: Any) -> str:
    text = value.decode("utf-8", "replace") if isinstance(value, bytes) else str(value)
    return text if len(text) <= 400 else f"{text[:400]}… ({len(text)} characters)"
