"""Which files a command reads, how, and where it writes."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.options import Options, option
from spectrane.engine.damage import DAMAGED, DamagedData
from spectrane.kernels.records import record
from spectrane.model.addresses import file_stem
from spectrane.model.asking import MATRICES, PlacedBy
from spectrane.model.trials import now_trying

if TYPE_CHECKING:
    from spectrane.spatial.shapes import Shapes


@record(frozen=True)
class OpeningOptions(Options):
    """Which raster of a file is read, and how."""

    member: tuple[str, ...] = option(
        "--member", group="Input", multiple=True, metavar="NUMBER|NAME",
        help="Which raster of a file or folder: its number from 1, or its name. Once for all "
        "files, or once for each.",
    )  # fmt: skip
    spacing: str | None = words.spacing()
    choose: PlacedBy | None = option(
        "--choose", group="Input", type=click.Choice(MATRICES),
        help="Of a NIfTI volume placed by two matrices that differ: this one.",
    )  # fmt: skip
    damaged: DamagedData = option(
        "--damaged", group="Input", type=click.Choice(DAMAGED), default="error",
        help="Damaged data are an error, or the rest is kept and they are invalid.",
    )  # fmt: skip

    def opening(self, number: int = 0, count: int = 1) -> dict[str, Any]:
        """Return what is said of the file of a number (from 0) as ``spectrane.open`` takes it."""
        said = self.member
        if len(said) not in (0, 1, count):
            raise click.UsageError(f"--member: said {len(said)} times for {count} files; once, or "
                                   "once for each in their order")  # fmt: skip
        given: dict[str, Any] = {"damaged": self.damaged}
        if said:
            given["member"] = said[0] if len(said) == 1 else said[number]
        own = {"spacing": self.spacing, "choose": self.choose}
        return given | {name: value for name, value in own.items() if value is not None}


def read_shapes_given(path: str, layer: str | None, crs: str | None, option: str) -> Shapes:
    """Return the shapes of a file; what is said of their system names the option to say it by."""
    from spectrane.spatial.shapes import read_shapes

    return replace(read_shapes(path, layer=layer, crs=crs), option=option)


def required(output: str | None) -> str:
    """Return where the output goes; it must be said."""
    if output is None:
        raise click.UsageError("say where the output goes: -o OUT")
    return output


def targets(
    files: Sequence[str], output: str | None, folder: str | None, ending: str
) -> dict[str, str]:
    """Return the file that each input's output goes to, from ``-o`` or ``--out-dir``.

    The folder is made. Raises UsageError unless one is said, or where two would be one.
    """
    if (output is None) == (folder is None):
        likely = f"; {files[-1]} may be meant as -o {files[-1]}" if len(files) == 2 else ""
        raise click.UsageError("say where the output goes: -o OUT for one file, --out-dir FOLDER "
                               f"for many{likely}")  # fmt: skip
    if output is not None:
        if len(files) > 1:
            raise click.UsageError(f"-o names one output for {len(files)} files; use --out-dir "
                                   "FOLDER")  # fmt: skip
        return {files[0]: output}
    assert folder is not None
    if len(set(files)) < len(files):
        raise click.UsageError("a file is named twice")
    places = {file: os.path.join(folder, _stem(file) + ending) for file in files}
    if len(set(places.values())) < len(files):
        raise click.UsageError("two files would get the same output; do them one by one with -o")
    trial = now_trying()
    if trial is not None:
        trial.folders.add(os.path.abspath(folder))
    else:
        os.makedirs(folder, exist_ok=True)
    return places


def _stem(file: str) -> str:
    return file_stem(file.rstrip("/\\"))
