"""``spectrane probe --line`` and ``--angle``: distances, values along a line, angles."""

from __future__ import annotations

from typing import Any

import click

from spectrane.cli.answering import answering, records
from spectrane.cli.written import file_facts, size_text
from spectrane.engine.csv_text import write_csv

_READ = ("line", "angle", "nodata", "compute", "unit", "profile", "csv", "size")


def measure(options: Any) -> None:
    """Tell values along a line of one raster, or an angle."""
    from spectrane.opening import open_raster

    options.refuse_others(_READ, "with --line and --angle")
    if len(options.files) != 1:
        raise click.UsageError(f"--line and --angle are for one file, not {len(options.files)}")
    options.outputs()
    with answering(options) as answer, open_raster(options.files[0], **options.opening()) as raster:
        shown = options.computed(raster)
        if options.angle:
            _angle(options, answer)
        if options.line:
            _line(shown, options, answer)
        else:
            options.refuse(["profile", "csv"], "without --line")


def _angle(options: Any, answer: Any) -> None:
    from spectrane.measuring import angle

    found = angle(*options.angle)
    corner = ", ".join(f"{value:.10g}" for value in options.angle[1])
    answer.add({"angle": found, "at": list(options.angle[1])},
               f"angle at {corner}: {found:.4g} degrees")  # fmt: skip


def _line(raster: Any, options: Any, answer: Any) -> None:
    from spectrane.measuring import along

    table = along(raster, *options.line)
    said = table.attrs
    rows = records(table)
    facts = {"length": said["length"], "unit": said["unit"], "azimuth": said["azimuth"]}
    answer.add(facts | {"line": rows},
               f"length {said['length']:.6g} {said['unit']}, "
               f"azimuth {said['azimuth']:.4g} degrees")  # fmt: skip
    for name, band in table.groupby("band", sort=False):
        values = band["value"]
        unit = band["unit"].iloc[0]
        told = f" {unit}" if isinstance(unit, str) and unit != "1" else ""
        answer.say(f"  {name}: {values.min():.6g} to {values.max():.6g}{told}, mean "
                   f"{values.mean():.6g} ± {values.std(ddof=0):.4g}, {len(values)} samples, "
                   f"{int(values.isna().sum())} invalid")  # fmt: skip
    if options.csv:
        write_csv(table, options.csv, overwrite=options.overwrite)
        answer.add(file_facts(options.csv), f"{options.csv}: {size_text(options.csv)}")
    if options.profile:
        from spectrane.figures.paper import save_figure
        from spectrane.figures.profile import line_profile

        save_figure(line_profile(table, size=options.size), options.profile,
                    overwrite=options.overwrite)  # fmt: skip
        answer.add(file_facts(options.profile), f"{options.profile}: {size_text(options.profile)}")
