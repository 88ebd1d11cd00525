"""``spectrane scenes``: which scenes of a catalogue show an area, and which are worth opening."""

from __future__ import annotations

import shlex
from typing import TYPE_CHECKING, Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, rows_text
from spectrane.cli.options import Options, argument, command_of, option
from spectrane.cli.progress import progress_bar
from spectrane.cli.written import counted, file_facts, size_text
from spectrane.engine.csv_text import write_csv
from spectrane.kernels.records import record
from spectrane.model.printing import share_text
from spectrane.model.whole_files import check_target

if TYPE_CHECKING:
    from spectrane.catalogs.finding import Scenes

_SHOWN = 12
"""Scenes left out that a person is told of one by one."""


@record(frozen=True)
class ScenesOptions(Options):
    """What ``scenes`` takes."""

    catalog: str = argument("CATALOG")
    over: str | None = option(
        "--over", group="Place", metavar="FILE|W,S,E,N",
        help="What shall be seen: a raster, shapes, or longitudes and latitudes.",
    )  # fmt: skip
    over_crs: str | None = option("--over-crs", group="Place",
                                  help="Of shapes that do not say their system.")  # fmt: skip
    start: str | None = option("--from", group="Result", metavar="DATE",
                               help="The first day, month, year or moment.")  # fmt: skip
    end: str | None = option("--to", group="Result", metavar="DATE",
                             help="The last; all of it belongs to it, in UTC.")  # fmt: skip
    cloud: float | None = option("--cloud", group="Result", type=click.FloatRange(0, 100),
                                 help="Most cloud, in percent.")  # fmt: skip
    first: int | None = option("--first", group="Result", type=click.IntRange(1),
                               help="Only so many, the best.")  # fmt: skip
    collection: tuple[str, ...] = option("--collection", group="Input", multiple=True,
                                         help="Only of this collection.")  # fmt: skip
    measure_cloud: bool = option(
        "--measure-cloud", group="Result", is_flag=True,
        help="Read masks of the web too, for the cloud over the area alone.",
    )  # fmt: skip
    output: str | None = words.output("A picture of footprints: .png, .pdf or .svg.")
    size: tuple[int, int] = words.size((800, 1280))
    csv: str | None = words.csv()
    fetch: str | None = option("--fetch", group="Output", type=click.Path(), metavar="DIR",
                               help="Bring the scenes that are shown into a folder.")  # fmt: skip
    fewest: bool = option("--fewest", group="Result", is_flag=True,
                          help="Only the fewest that show all that can be seen.")  # fmt: skip
    assets: str | None = option("--assets", group="Output", metavar="NAME,…",
                                help="Only these assets, bands or roles of them.")  # fmt: skip
    overwrite: bool = words.overwrite()


@command_of("scenes", ScenesOptions, examples=(
    "scenes demo/acquisitions --over demo/eelgrass.geojson --from 2026-04 --to 2026-06 --cloud 20",
    "scenes demo/acquisitions --over demo/sound_8band.tif --cloud 20 -o footprints.png",
    "scenes demo/acquisitions --over demo/eelgrass.geojson --first 2 --fetch found --assets "
    "red,green,blue",
))  # fmt: skip
def command(options: ScenesOptions) -> None:
    """Find the scenes that show an area, the best first: by share seen, cloud, then the newest.

    CATALOG is a STAC catalogue (a file, folder, .zip or URL) or search, or a folder of rasters.
    Nothing is downloaded but documents, without --fetch.
    """
    from spectrane.catalogs.finding import find_scenes

    if options.fetch is None:
        options.refuse(["assets"], "without --fetch")
    if options.output is None:
        options.refuse(["size"], "without -o")
    for path in (options.output, options.csv):
        if path is not None:
            check_target(path, overwrite=options.overwrite)
    with answering(options) as answer:
        with progress_bar("looking through the catalogue", options.quiet) as progress:
            found = find_scenes(
                options.catalog, over=_over(options.over), over_crs=options.over_crs,
                start=options.start, end=options.end, cloud=options.cloud, first=options.first,
                collections=options.collection, progress=progress,
                measure_cloud=True if options.measure_cloud else None,
            )  # fmt: skip
        if options.fewest:
            found = _only_fewest(found)
        for note in found.notes:
            answer.warn(note)
        _tell(found, answer)
        _write(found, options, answer)


def _over(text: str | None) -> Any:
    """Return four numbers as bounds, and anything else as a file's name."""
    if text is None:
        return None
    try:
        numbers = tuple(float(part) for part in text.split(","))
    except ValueError:
        return text
    if len(numbers) != 4:
        raise click.UsageError(f"--over {text!r}: expected west,south,east,north or a file")
    return numbers


def _only_fewest(found: Scenes) -> Scenes:
    from dataclasses import replace

    if found.area is None:
        raise click.UsageError("--fewest needs an area: --over")
    few = {one.item.id for one in found.fewest}
    rest = tuple(replace(one, left_out="the others show all that it does")
                 for one in found.found if one.item.id not in few)  # fmt: skip
    kept = tuple(one for one in found.found if one.item.id in few)
    return replace(found, found=kept, left_out=(*rest, *found.left_out))


def _tell(found: Scenes, answer: Answer) -> None:
    rows = found.rows()
    for row in rows:
        answer.add(row)
    listed = [_line(row) for row in rows if not row["left_out"]]
    answer.say(*rows_text(listed))
    left = [row for row in rows if row["left_out"]]
    if left:
        answer.say("", "Left out")
        wide = max(len(row["id"]) for row in left[:_SHOWN])
        answer.say(*(f"  {row['id']:<{wide}}  {_day(row)}  {row['left_out']}"
                     for row in left[:_SHOWN]))  # fmt: skip
        more = len(left) - _SHOWN
        answer.say(*([f"  and {more} more; --json tells all"] if more > 0 else []))
    answer.say("", *_summary(found))


def _line(row: dict[str, Any]) -> dict[str, Any]:
    over = row["cloud_over"]
    cloud = "unknown" if row["cloud"] is None else f"{row['cloud']:.3g} %"
    shown = {"rank": str(row["rank"]), "id": row["id"], "date": _day(row)}
    if row["share"] is not None:
        shown["area seen"] = share_text(row["share"])
    shown["cloud"] = cloud
    shown["over the area"] = "" if over is None else f"{over:.3g} %"
    return shown | {"fewest": "yes" if row["in_fewest"] else "", "note": row["note"] or None}


def _day(row: dict[str, Any]) -> str:
    return "no date" if row["date"] is None else row["date"][:16].replace("T", " ")


def _summary(found: Scenes) -> list[str]:
    lines = [f"{counted(len(found.found), 'scene')} of {len(found.found) + len(found.left_out)}"]
    if found.covered is not None and found.fewest:
        names = ", ".join(one.item.id for one in found.fewest)
        lines[0] += f"; {share_text(found.covered)} of the area is seen, by the fewest: {names}"
    if len(found.found) > 1:
        files = " ".join(shlex.quote(one.item.href) for one in found.found[:2])
        lines.append(f"Compare the best: spectrane compare {files} --shared-scenes -o both.png")
    if len(found.fewest) > 1:
        files = " ".join(shlex.quote(one.item.href) for one in found.fewest)
        lines.append(f"Join the fewest: spectrane mosaic {files} -o joined.tif --stacking cloud")
    return lines


def _write(found: Scenes, options: ScenesOptions, answer: Answer) -> None:
    if options.output is not None:
        from spectrane.figures.footprints import footprints
        from spectrane.figures.paper import save_figure

        save_figure(footprints(found, size=options.size), options.output,
                    overwrite=options.overwrite)  # fmt: skip
        answer.add(file_facts(options.output),
                   f"{options.output}: footprints, {size_text(options.output)}")  # fmt: skip
    if options.csv is not None:
        import pandas

        write_csv(pandas.DataFrame(found.rows()), options.csv, overwrite=options.overwrite)
        answer.add(file_facts(options.csv), f"{options.csv}: the table, {size_text(options.csv)}")
    if options.fetch is not None:
        _fetch(found, options, options.fetch, answer)


def _fetch(found: Scenes, options: ScenesOptions, folder: str, answer: Answer) -> None:
    from spectrane.catalogs.fetching import fetch_item

    names = None if options.assets is None else [one.strip() for one in options.assets.split(",")]
    for scene in found.found:
        with progress_bar(f"fetching {scene.item.id}", options.quiet) as progress:
            paths = fetch_item(scene.item, folder, assets=names, overwrite=options.overwrite,
                               progress=progress)  # fmt: skip
        size = sum(file_facts(path)["bytes"] for path in paths)
        line = f"{paths[0]}: {counted(len(paths) - 1, 'asset')}, {size / 1e6:.3g} MB"
        answer.add({"output": paths[0], "bytes": size, "files": paths}, line)
