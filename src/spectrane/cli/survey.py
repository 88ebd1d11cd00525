"""``spectrane survey``: the rasters below a folder."""

from __future__ import annotations

import os
from typing import Any

from spectrane.cli.answering import answering
from spectrane.cli.options import Options, argument, command_of
from spectrane.cli.progress import progress_bar
from spectrane.cli.written import counted
from spectrane.kernels.records import record
from spectrane.model.addresses import address_parts, is_address

_NAMED = 3
"""Files that are named of those that share something."""


@record(frozen=True)
class SurveyOptions(Options):
    """What ``survey`` takes."""

    folder: str = argument("FOLDER")


@command_of("survey", SurveyOptions, examples=("survey demo", "survey demo --json"))
def command(options: SurveyOptions) -> None:
    """List every raster and volume below a folder, found by its content whatever its name."""
    from spectrane.analysis.description import aligned_table
    from spectrane.model.printing import printable
    from spectrane.opening import survey_rows

    folder = options.folder
    with answering(options) as answer:
        with progress_bar("looking", options.quiet) as progress:
            found = survey_rows(folder, progress=progress)
        for one in found:
            answer.add(one)
        rows = [["File", "Format", "Size", "Bands", "Type", "Coordinates"]]
        rows += [_row(folder, one) for one in found]
        answer.say(*aligned_table(rows))
        unusual = _grouped(folder, found)
        answer.say(*(["", "Unusual"] if unusual else []),
                   *(printable(f"  {text}") for text in unusual), "", _count(found))  # fmt: skip


def _count(rows: list[dict[str, Any]]) -> str:
    from spectrane.surveying import HEADERLESS

    bare = sum(one["format"] == HEADERLESS for one in rows)
    broken = sum(bool(one["problem"]) for one in rows) - bare
    volumes = sum(one["planes"] is not None for one in rows)
    count = counted(len(rows) - volumes, "raster")
    count += f", {counted(volumes, 'volume')}" if volumes else ""
    count += f", {bare} of them headerless" if bare else ""
    return count + (f", {broken} of them broken" if broken else "")


def _grouped(folder: str, rows: list[dict[str, Any]]) -> list[str]:
    """Return what is unusual, once for all the files that share it, those with most files last."""
    sharing: dict[str, list[str]] = {}
    for one in rows:
        for text in (one["problem"],) if one["problem"] else one["unusual"]:
            sharing.setdefault(text, []).append(_called(folder, one))
    told = []
    for text, files in sorted(sharing.items(), key=lambda item: len(item[1])):
        more = f" and {len(files) - _NAMED} more" if len(files) > _NAMED else ""
        named = ", ".join(files[:_NAMED]) + more
        told.append(f"{named}: {text}" if len(files) == 1 else f"{len(files)} files ({named}): "
                    f"{text}")  # fmt: skip
    return told


def _short(folder: str, path: str) -> str:
    if is_address(path):
        above = address_parts(folder)[1] if is_address(folder) else ""
        return address_parts(path)[1].removeprefix(above).lstrip("/")
    return os.path.relpath(path, folder)


def _called(folder: str, one: dict[str, Any]) -> str:
    """Return a row's path; of a series among several in a folder with its number and name."""
    path = _short(folder, one["path"])
    return path if one["member"] is None else f"{path}, {one['member']}: {one['name']}"


def _row(folder: str, one: dict[str, Any]) -> list[str]:
    if one["problem"]:
        from spectrane.surveying import HEADERLESS

        state = "undescribed" if one["format"] == HEADERLESS else "broken"
        return [_called(folder, one), one["format"] or "?", state, "", "", ""]
    if one["columns"] is None:
        return [_called(folder, one), one["format"], "no pixels", "", "", ""]
    many = one["members"] > 1 and one["member"] is None
    members = " ({members} members)".format(**one) if many else ""
    size = "{columns} x {rows}".format(**one)
    size += members if one["planes"] is None else " x {planes}".format(**one) + members
    place = one["crs"] or ("none" if one["planes"] is None else "patient")
    place = place if len(place) < 30 else place[:27] + "..."
    return [_called(folder, one), one["format"], size, str(one["bands"]), one["type"], place]
