"""Handing on data: another format, band order, type or range; told what it cost."""

from __future__ import annotations

import inspect
import math
import os
import time
from collections.abc import Sequence
from typing import Any, Literal, get_args

import numpy as np

from spectrane.analysis.sampling import sample_of
from spectrane.display.limits import type_range
from spectrane.display.plan import resolve
from spectrane.engine.derived import Derived
from spectrane.engine.described import Described
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats.table import writer_for
from spectrane.kernels.ranks import percentiles
from spectrane.model.errors import AccessError, FormatError, LookError
from spectrane.model.look import Look
from spectrane.model.marks import STEP, is_picture
from spectrane.model.patience import check_work
from spectrane.model.physical import stored_numbers
from spectrane.model.source import Source, called
from spectrane.model.telling import warn_caller
from spectrane.model.trials import Trial, bytes_of, now_trying
from spectrane.model.version import VERSION
from spectrane.model.whole_files import check_target
from spectrane.model.window import whole, window_area
from spectrane.spatial.converted import Converted, Range, type_named
from spectrane.spatial.subset import Subset
from spectrane.spatial.turned import upright

Rescale = Literal["none", "full", "limits"]
RESCALES: tuple[Rescale, ...] = get_args(Rescale)
_DARK = 0.25
"""A picture file whose numbers end below this share of the type looks dark elsewhere."""


def write_data(
    source: Source,
    path: str | os.PathLike[str],
    *,
    dtype: str | np.dtype[Any] | None = None,
    rescale: str | None = None,
    look: Look | None = None,
    progress: Progress = no_progress,
    **options: Any,
) -> None:
    """Write a source's data to a file of the format its ending names.

    ``dtype`` is another type. ``rescale`` says what becomes of the numbers: ``none`` keeps them
    (rounded half up, out of range clamped, none made no-data by it; counted and warned of),
    ``full`` stretches the whole range of the type (of the data, for floats) to that of the new one,
    ``limits`` the display limits of ``look`` (default: the file's own, else percentile:1,99). A
    rescaled file says of itself that it is for display. ``options`` are the writer's own.

    Raises FormatError for what the format cannot hold, ExistingFile, AccessError; a file is never
    written over the one it is read from.
    """
    writer = writer_for(path)
    _check_not_itself(source, os.fspath(path))
    _check_options(writer, options, path)
    check_work(math.prod(source.shape) * len(source.bands), source.name)
    source = upright(source)  # no format but TIFF says otherwise of plain numbers
    ready = converted(source, dtype, rescale, look)
    ready = Described(ready, metadata={**ready.metadata, "provenance": provenance(source, ready)})
    _tell_lost_digits(source, ready)
    _tell_dark(ready, path)
    trial = now_trying()
    if trial is not None:
        check_target(os.fspath(path), overwrite=bool(options.get("overwrite")))
        _try_out(trial, ready, os.fspath(path), writer, options)
    else:
        writer(ready, path, progress=progress, **options)
    _tell_changed(ready)


_TRIED, _WARM = 512, 16
"""Rows and columns of what a trial writes of large data, and first, so that all is loaded."""
_SMALL = 8_000_000
"""So many numbers and fewer are written whole in a trial."""


def _try_out(trial: Trial, ready: Source, path: str, writer: Any, options: dict[str, Any]) -> None:
    """Write a source, or the middle of a large one, to a trial's scratch folder; reckon the whole.

    What is reckoned is in proportion to the pixels.
    """
    given = {name: value for name, value in options.items() if name not in ("resume", "engine")}
    every = list(range(len(ready.bands)))
    total = window_area(whole(ready.shape))
    sides = (max(ready.shape),) if total * len(every) <= _SMALL else (_WARM, _TRIED)
    taken, share = 0.0, 1.0
    for side in sides:
        window = tuple((max(0, (n - side) // 2), min(n, max(0, (n - side) // 2) + side))
                       for n in ready.shape)  # fmt: skip
        share = window_area(window) / total
        part = ready if share == 1 else Subset(ready, every, window)
        begun = time.perf_counter()
        writer(part, trial.place(path), progress=no_progress, **{**given, "overwrite": True})
        taken = time.perf_counter() - begun
    trial.planned[os.path.abspath(path)] = {
        "shape": [len(every), *ready.shape], "bytes": round(bytes_of(trial.place(path)) / share),
        "seconds": round(taken / share, 2), "bounds": list(ready.grid.bounds),
    }  # fmt: skip


def _tell_changed(ready: Derived) -> None:
    """Warn of valid numbers that another type made into others."""
    made = ready.parent
    told = made.changes if isinstance(made, Converted) else {}
    if not told:
        return
    changed = ", ".join(f"{count} {how}" for how, count in told.items())
    moved = "; moved are those that would have become no-data" if "moved" in told else ""
    warn_caller(
        f"to {ready.dtype.name}: of the valid numbers, {changed}{moved}; --rescale full or a wider "
        "--type keeps them"
    )


def _tell_dark(ready: Source, path: str | os.PathLike[str]) -> None:
    """Warn of 16-bit numbers in a picture file that other programs will show nearly black."""
    name = os.fspath(path)
    if ready.dtype != np.uint16 or not name.lower().endswith(".png") or is_picture(ready):
        return
    if len(ready.shape) != 2 or ready.categories:
        return
    sample = sample_of(ready)
    numbers = [sample.values(k) for k in range(len(sample.bands))]
    most = max((percentiles(part, (99,))[0] for part in numbers if part.size), default=65535.0)
    if most < _DARK * 65535:
        warn_caller(
            f"{name}: 16-bit numbers up to about {most:.0f} of 65535, as stored: other programs "
            "show them nearly black; for a picture take --rescale limits --type uint8 "
            "(rescale='limits', dtype='uint8'), or spectrane render"
        )


def _check_not_itself(source: Source, path: str) -> None:
    both = source.name and os.path.exists(source.name) and os.path.exists(path)
    if both and os.path.samefile(source.name, path):
        raise AccessError(f"{path}: is the file being read; write to another name")


def _tell_lost_digits(source: Source, ready: Source) -> None:
    """Warn where a float type cannot hold all digits of what is put into it."""
    into = ready.dtype
    shown = into.kind != "f" or ready.metadata.get("display only")
    if shown or np.can_cast(source.dtype, into, "safe"):
        return
    warn_caller(
        f"{into.name} keeps about {np.finfo(into).precision + 1} digits of a number, fewer than "
        f"{source.dtype.name} may have"
    )


def _check_options(writer: Any, options: dict[str, Any], path: Any) -> None:
    known = [name for name in inspect.signature(writer).parameters if name not in
             ("source", "target", "progress")]  # fmt: skip
    for name in options:
        if name not in known:
            raise FormatError(
                f"{os.fspath(path)}: {name} means nothing for this format; its options are "
                f"{', '.join(known)}"
            )


def converted(
    source: Source, dtype: str | np.dtype[Any] | None, rescale: str | None, look: Look | None = None
) -> Source:
    """Return a source in another type and range; itself where neither is asked for."""
    if rescale not in (None, *RESCALES):
        raise LookError(f"rescale {rescale!r}: expected one of {', '.join(RESCALES)}")
    wanted = source.dtype if dtype is None else type_named(str(np.dtype(dtype)
                                                               if not isinstance(dtype, str)
                                                               else dtype))  # fmt: skip
    if rescale in (None, "none"):
        return source if wanted == source.dtype else Converted(source, wanted)
    return Converted(source, wanted, _ranges(source, rescale, look))


def _ranges(source: Source, rescale: str, look: Look | None) -> Sequence[Range]:
    """Return each band's stored low and high, which become the ends of the new type."""
    if rescale == "full" and source.dtype.kind != "f":
        return [type_range(source.dtype)] * len(source.bands)
    chosen = Look(limits="minmax") if rescale == "full" else (look or source.look or Look())
    if rescale == "limits" and not chosen.limits_named:
        chosen = Look(limits="percentile:1,99")
    ranges: list[Range] = []
    for index, band in enumerate(source.bands):
        rule = chosen.limits[min(index, len(chosen.limits) - 1)]
        plan = resolve(
            source,
            Look(limits=[rule], exact=chosen.exact, limits_from=chosen.limits_from),
            bands=[index],
        )
        scale = plan.scales[0]
        ranges.append((stored_numbers(scale.low, band), stored_numbers(scale.high, band)))
    return ranges


def provenance(source: Source, ready: Source) -> list[str]:
    """Say where a written file comes from: the source's file name and what was done to it."""
    steps = [*source.metadata.get("provenance", ())]
    name = called(source)
    bands = ", ".join(band.name for band in source.bands[:16])
    step = f"from {name}; bands {bands}"
    if ready.dtype != source.dtype:
        step += f"; {source.dtype.name} to {ready.dtype.name}"
    if ready.metadata.get("display only"):
        step += f"; {STEP}"
    return [*steps, f"{step}; written by Spectrane {VERSION}"]
