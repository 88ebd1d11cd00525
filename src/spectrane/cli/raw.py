"""``spectrane raw``: a headerless binary, described once."""

from __future__ import annotations

import json
import warnings
from typing import Any

import click

from spectrane.cli.common import examples, shared_options
from spectrane.formats import raw
from spectrane.formats.raw import INTERLEAVES, ORDERS
from spectrane.formats.sidecar_schema import RawTable
from spectrane.model.errors import ExistingFile, FormatError
from spectrane.model.look import Look
from spectrane.model.whole_files import check_target, written_whole

TYPES = ("uint8", "uint16", "uint32", "uint64", "int8", "int16", "int32", "int64", "float16",
         "float32", "float64")  # fmt: skip


@click.command("raw")
@click.argument("file")
@click.option("--rows", type=click.IntRange(min=1), help="Rows.")
@click.option("--columns", type=click.IntRange(min=1), help="Columns.")
@click.option("--bands", type=click.IntRange(min=1), help="Bands; default 1.")
@click.option("--type", "kind", type=click.Choice(TYPES), help="Type; default uint8.")
@click.option("--order", type=click.Choice(ORDERS), default="little",
              help="Byte order.")  # fmt: skip
@click.option("--header", type=click.IntRange(min=0), default=0, help="Bytes before the numbers.")
@click.option("--interleave", type=click.Choice(INTERLEAVES), default="bsq",
              help="Band by band, row by row, or pixel by pixel.")  # fmt: skip
@click.option("--guess", is_flag=True, help="Rank the layouts that fit by how smooth they are.")
@click.option("--preview", type=click.Path(), help="A picture (.png) of the best guesses.")
@click.option("--keep", is_flag=True, help="With --guess: keep the best one.")
@click.option("--overwrite", is_flag=True, help="Replace a description or preview that exists.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "raw demo/sound_pan.bin --rows 640 --columns 400",
    "raw demo/sound_pan.bin --rows 640 --columns 400 --guess --preview guesses.png",
)
def command(file: str, **options: Any) -> None:
    """Describe a headerless binary; after that it opens like any other file.

    The layout is checked against the file's size, and kept in a sidecar beside it.
    """
    if options["guess"]:
        _guess(file, options)
        return
    if options["rows"] is None or options["columns"] is None:
        raise click.UsageError("say --rows and --columns, or ask for a --guess")
    _keep(file, _table(options), options)


def _table(options: dict[str, Any]) -> Any:
    return RawTable(
        rows=options["rows"], columns=options["columns"], bands=options["bands"] or 1,
        type=options["kind"] or "uint8", order=options["order"], header=options["header"],
        interleave=options["interleave"],
    )  # fmt: skip


def _keep(file: str, table: Any, options: dict[str, Any]) -> None:
    from spectrane.formats import raw, sidecar
    from spectrane.formats.keeping import write_sidecar

    opened = raw.file_of(file)
    raw.check_size(opened.name, opened.size, table)
    before = sidecar.text_of(opened.name)
    known = sidecar.read(opened.name)
    if known is not None and known.raw not in (None, table) and not options["overwrite"]:
        raise ExistingFile(
            f"{sidecar.path_of(file)}: describes another layout already; --overwrite replaces it"
        )
    write_sidecar(opened.name, {"raw": table.model_dump()}, before)
    if options["as_json"]:
        facts = {"sidecar": sidecar.path_of(file), "raw": table.model_dump()}
        click.echo(json.dumps(facts, indent=2))
    elif not options["quiet"]:
        click.echo(f"{file}: {raw.spoken(table)}; kept in {sidecar.path_of(file)}")


def _guess(file: str, options: dict[str, Any]) -> None:
    opened = raw.file_of(file)
    found = raw.guesses(
        opened, rows=options["rows"], columns=options["columns"], bands=options["bands"],
        type=options["kind"], header=options["header"],
    )  # fmt: skip
    if not found:
        raise FormatError(f"{file}: no layout fits its {opened.size} bytes; is there a --header?")
    said = _table(options) if options["rows"] and options["columns"] else None
    faults = raw.named_faults(said, found[0][1]) if said else []
    if options["preview"]:
        _preview(opened, found[:4], options)
    if options["as_json"]:
        ranked = [{"roughness": r, **table.model_dump()} for r, table in found[:10]]
        click.echo(json.dumps({"guesses": ranked, "faults": faults}, indent=2))
    elif not options["quiet"]:
        for number, (roughness, table) in enumerate(found[:10], 1):
            click.echo(f"{number:>2}  roughness {roughness:.3f}  {raw.spoken(table)}")
        for fault in faults:
            click.echo(f"likely fault: {fault}")
        if options["preview"]:
            click.echo(f"{options['preview']}: the best of them side by side")
        if not options["keep"]:
            click.echo("look at them, then say the right one, or --guess --keep for the first")
    if options["keep"]:
        _keep(file, found[0][1], options)


def _preview(opened: Any, found: list[Any], options: dict[str, Any]) -> None:
    from spectrane.display.render import render
    from spectrane.display.side_by_side import side_by_side
    from spectrane.formats.png.encoding import encode_png

    check_target(options["preview"], overwrite=options["overwrite"])
    look = Look(channels=1, limits="percentile:2,98")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # most of them are wrong, which is to be seen
        pictures = [render(raw.open_raw(opened, table), look, size=(420, 420))
                    for _, table in found]  # fmt: skip
    captions = [f"{k}. {raw.spoken(table)}" for k, (_, table) in enumerate(found, 1)]
    sheet = side_by_side(pictures, captions)
    with written_whole(options["preview"], overwrite=options["overwrite"]) as file:
        file.write(encode_png(sheet, {"Description": "Preview of guessed layouts, not data."}))
