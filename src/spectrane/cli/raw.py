"""``spectrane raw``: a headerless binary, described once."""

from __future__ import annotations

import warnings
from dataclasses import replace
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering
from spectrane.cli.options import Options, argument, command_of, option
from spectrane.cli.written import file_facts, size_text
from spectrane.formats import raw
from spectrane.formats.flat import ORDERS, ByteOrder, Interleave
from spectrane.formats.raw_notes import layout_in
from spectrane.formats.sidecar_schema import RawTable
from spectrane.kernels.records import record
from spectrane.model.errors import ExistingFile, FormatError
from spectrane.model.look import Look
from spectrane.model.number_types import NumberType
from spectrane.model.whole_files import check_target, written_whole

_RANKED = 10
"""Guesses that are told; of these the first few are shown."""
_SHOWN = 4


@record(frozen=True)
class RawOptions(Options):
    """What ``raw`` takes."""

    file: str = argument("FILE")
    from_notes: str | None = option(
        "--from", group="Input", type=click.Path(), metavar="NOTES",
        help="The layout from a text of 'word = value' or 'word value' lines; what is said here "
        "wins.",
    )  # fmt: skip
    rows: int | None = option("--rows", group="Input", type=click.IntRange(min=1),
                              help="How many rows there are.")  # fmt: skip
    columns: int | None = option("--columns", group="Input", type=click.IntRange(min=1),
                                 help="How many columns there are.")  # fmt: skip
    bands: int | None = option("--bands", group="Input", type=click.IntRange(min=1),
                               help="How many bands there are; 1 if unsaid.")  # fmt: skip
    type: NumberType | None = words.number_type()
    order: ByteOrder | None = option("--order", group="Input", type=click.Choice(ORDERS),
                               help="Byte order; little if unsaid.")  # fmt: skip
    header: int | None = option("--header", group="Input", type=click.IntRange(min=0),
                                help="Bytes before the numbers; none if unsaid.")  # fmt: skip
    interleave: Interleave | None = words.interleave()
    guess: bool = option("--guess", group="Result", is_flag=True,
                         help="Rank the layouts that fit by how smooth they are.")  # fmt: skip
    keep_best: bool = option("--keep-best", group="Result", is_flag=True,
                             help="With --guess: keep the first one.")  # fmt: skip
    preview: str | None = words.preview()
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()


@command_of("raw", RawOptions, examples=(
    "raw demo/sound_pan.bin --rows 550 --columns 1500",
    "raw demo/sound_pan.bin --from demo/sound_pan.txt --guess --preview guesses.png",
))  # fmt: skip
def command(options: RawOptions) -> None:
    """Describe a headerless binary; after that it opens like any other file.

    The layout is checked against the file's size, and kept in a sidecar beside it. Unsaid are one
    band of uint8, little-endian, band by band. With --preview the best guesses are drawn.
    """
    noted = layout_in(options.from_notes) if options.from_notes else {}
    options = with_notes(options, noted)
    if not options.guess:
        options.refuse(["keep_best", "preview"], "without --guess")
        if options.rows is None or options.columns is None:
            raise click.UsageError(_unsaid(options))
    elif not options.keep_best and not options.preview:
        options.refuse(["overwrite"], "without --keep-best or --preview")
    with answering(options) as answer:
        if options.guess:
            _guess(options, answer)
        else:
            _keep(_table(options), options, answer)


def _unsaid(options: RawOptions) -> str:
    """Say what of rows and columns is lacking, and how to give it."""
    if options.from_notes is None:
        return "say --rows and --columns, or ask for a --guess, or --from NOTES"
    lacking = [name for name in ("rows", "columns") if getattr(options, name) is None]
    asked = " and --".join(lacking)
    return f"{options.from_notes}: says no {' and no '.join(lacking)}; say --{asked}"


def with_notes(options: RawOptions, noted: dict[str, Any]) -> RawOptions:
    """Return the options with what notes say where nothing was said on the command line."""
    _ = [getattr(options, name) for name in noted]
    unsaid = {name: value for name, value in noted.items() if name not in options.said()}
    made = replace(options, **unsaid)
    made.__dict__.update({name: options.__dict__[name] for name in ("_said", "_read")
                          if name in options.__dict__})  # fmt: skip
    return made


def _table(options: RawOptions) -> RawTable:
    assert options.rows is not None
    assert options.columns is not None
    given: dict[str, Any] = {"order": options.order, "interleave": options.interleave}
    return RawTable(
        rows=options.rows, columns=options.columns, bands=options.bands or 1,
        type=options.type or "uint8", header=options.header or 0,
        **{name: value for name, value in given.items() if value is not None},
    )  # fmt: skip


def _keep(table: RawTable, options: RawOptions, answer: Answer) -> None:
    from spectrane.engine.locking import alone_with
    from spectrane.formats import sidecar
    from spectrane.formats.keeping import write_sidecar

    replacing = options.overwrite
    opened = raw.file_of(options.file)
    raw.check_size(opened.name, opened.size, table)
    with alone_with(opened.name):
        before = sidecar.text_of(opened.name)
        known = sidecar.read(opened.name)
        if known is not None and known.raw not in (None, table) and not replacing:
            raise ExistingFile(
                f"{sidecar.path_of(options.file)}: describes another layout already; --overwrite "
                "replaces it"
            )
        if not options.dry_run:
            write_sidecar(opened.name, {"raw": table.model_dump()}, before)
    kept = sidecar.path_of(options.file)
    facts = {"output": kept, "bytes": 0} if options.dry_run else file_facts(kept)
    answer.add(facts | {"input": options.file, "layout": table.model_dump()},
               f"{options.file}: {raw.format_layout(table)}; kept in {kept}")  # fmt: skip
    told = raw.doubt(opened, table)
    if told is not None:
        answer.warn(told)


def _guess(options: RawOptions, answer: Answer) -> None:
    opened = raw.file_of(options.file)
    layouts = raw.guesses(
        opened, rows=options.rows, columns=options.columns, bands=options.bands,
        type=options.type, header=options.header or 0,
    )  # fmt: skip
    complete = options.rows is not None and options.columns is not None
    if not complete:
        ways = (options.order, options.interleave)
        layouts = [one for one in layouts if all(
            way in (None, is_so) for way, is_so in
            zip(ways, (one[1].order, one[1].interleave), strict=True))]  # fmt: skip
    if not layouts:
        raise FormatError(f"{options.file}: no layout fits its {opened.size} bytes; is there a "
                          "--header?")  # fmt: skip
    faults = raw.named_faults(_table(options), layouts[0][1]) if complete else []
    if options.preview:
        _preview(opened, layouts[:_SHOWN], options.preview, options.overwrite)
    for number, (roughness, table) in enumerate(layouts[:_RANKED], 1):
        answer.add(
            {"input": options.file, "rank": number, "roughness": roughness,
             "layout": table.model_dump(), "faults": faults if number == 1 else []},
            f"{number:>2}  roughness {roughness:.3f}  {raw.format_layout(table)}",
        )  # fmt: skip
    answer.say(*(f"likely fault: {fault}" for fault in faults))
    if options.preview:
        answer.add(file_facts(options.preview),
                   f"{options.preview}: the best of them side by side, "
                   f"{size_text(options.preview)}")  # fmt: skip
    if options.keep_best:
        _keep(layouts[0][1], options, answer)
    else:
        answer.say("look at them, then say the right one, or --guess --keep-best for the first")


def _preview(opened: Any, layouts: list[Any], picture: str, overwrite: bool) -> None:
    from spectrane.display.render import draw_raster
    from spectrane.display.side_by_side import side_by_side
    from spectrane.formats.png.encoding import encode_png

    check_target(picture, overwrite=overwrite)
    look = Look(channels=1, limits="percentile:2,98")
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # most of them are wrong, which is to be seen
        pictures = [draw_raster(raw.open_raw(opened, table), look, size=(420, 420))
                    for _, table in layouts]  # fmt: skip
    captions = [f"{k}. {raw.format_layout(table)}" for k, (_, table) in enumerate(layouts, 1)]
    sheet = side_by_side(pictures, captions)
    with written_whole(picture, overwrite=overwrite) as file:
        file.write(encode_png(sheet, {"Description": "Preview of guessed layouts, not data."}))
