"""Corrections made once: kept in the sidecar, or inside the file where its format has a place."""

from __future__ import annotations

import os
from collections.abc import Mapping
from typing import Any

import numpy as np

from spectrane.engine.described import Described
from spectrane.engine.locking import alone_with
from spectrane.engine.threads import Progress, no_progress
from spectrane.formats import registry, sidecar, undoing
from spectrane.formats.keeping import (
    changes_table,
    sidecar_table,
    with_other_place_gone,
    write_sidecar,
)
from spectrane.formats.reduced_files import reduced_name, write_reduced
from spectrane.formats.sidecar_schema import apply_sidecar as lay
from spectrane.formats.sidecar_schema import checked
from spectrane.formats.table import format_called
from spectrane.model.band import find_band, nodata_astray
from spectrane.model.errors import FormatError, MetadataError
from spectrane.model.grid import CrsLike
from spectrane.model.look import Look
from spectrane.model.regular_files import open_regular
from spectrane.model.source import Source
from spectrane.model.systems import check_latitudes, parsed_system, system_text_or_none
from spectrane.model.telling import warn_caller
from spectrane.model.trials import now_trying
from spectrane.model.window import whole, window_area

_LARGE = 4 << 20
"""Pixels above which drawing without overviews is felt."""


def keep_corrections(
    path: str | os.PathLike[str],
    *,
    nodata: Any = ...,
    nodata_when: str | None = None,
    bands: Mapping[Any, Mapping[str, Any]] | None = None,
    crs: CrsLike | None = None,
    bounds: tuple[float, float, float, float] | None = None,
    corner: tuple[float, float] | None = None,
    pixel_size: tuple[float, float] | None = None,
    affine: Any = None,
    look: Look | Mapping[str, Any] | None = None,
    notes: str | None = None,
    spacing: str | None = None,
    metadata: Mapping[str, Any] | None = None,
    moved: Any = None,
    inside: bool = False,
) -> str:
    """Keep corrections with a file, so that the next load has them; return what was written.

    ``nodata`` is a number or a list with (low, high) ranges; None means there is none. ``bands``
    maps a number (from 1), name or role to fields of a band. ``metadata`` says what the raster is:
    a title, a date, cloud cover in percent, or anything; None takes a key away. ``spacing`` is
    how a series of uneven slices is stacked from now on (``resample``, ``nominal``). ``moved``
    (4x4) is where a volume's millimetres belong, as an alignment found them. Without
    ``inside`` they go to the sidecar ``NAME.spectrane.toml``; with it, into the file's own fields
    (TIFF, FITS, PNG), whose pixels are left alone. ``undo`` takes the last correction back.

    Raises MetadataError for what cannot be (an unknown band or key, two places at once), and
    FormatError where the format has no place for it inside.
    """
    name = os.fspath(path).rstrip("/" + os.sep)  # a folder is kept beside, not inside
    _check_local(name)
    if not os.path.isdir(name):
        os.close(open_regular(name))  # what is not there is not locked
    with alone_with(name):  # what others kept meanwhile is read first
        return _kept(
            name, inside, spacing, bands, crs, nodata=nodata, nodata_when=nodata_when,
            bounds=bounds, corner=corner, pixel_size=pixel_size, affine=affine, look=look,
            notes=notes, metadata=metadata, moved=None if moved is None else _moved(name, moved),
        )  # fmt: skip


def _kept(
    name: str, inside: bool, spacing: str | None, bands: Mapping[Any, Mapping[str, Any]] | None,
    crs: CrsLike | None, **corrections: Any,
) -> str:  # fmt: skip
    """Read the file as it is now, lay the corrections over it, and keep them."""
    options: dict[str, Any] = {} if spacing is None else {"spacing": spacing}
    source = registry.open_source(name, **options)
    try:
        numbered = {
            find_band(source.bands, key) + 1: dict(fields) for key, fields in (bands or {}).items()
        }
        crs = system_text_or_none(crs)
        table = changes_table(
            bands=numbered, crs=crs, spacing=spacing, **corrections
        )  # fmt: skip
        if len(source.shape) == 3 and set(table.get("grid", ())) - {"moved"}:
            raise MetadataError(f"{name}: is a volume, which lies in a patient by its own affine; "
                                f"{', '.join(table['grid'])} is for rasters")  # fmt: skip
        if not table:
            raise MetadataError(f"{name}: nothing to amend; say what is to be another")
        # What cannot be laid over must not be kept.
        changed = lay(source, checked(without_nothing(table), name))
        _tell_units(name, source, changed)
        astray = nodata_astray(changed.bands, changed.dtype)
        if astray is not None and astray != nodata_astray(source.bands, source.dtype):
            warn_caller(f"{name}: {astray}")
        if crs is not None:
            parsed_system(crs)  # what nobody can parse is refused
        if "grid" in table and changed.grid.placed and len(source.shape) == 2:
            check_latitudes("the place", changed.grid.corners, changed.grid.crs_text)
        if now_trying() is not None:
            if inside:
                _editor(name, source.format, table)
            return ""
        if not inside:
            _tell_slower(name, source, changed)
            before = sidecar.text_of(name)
            undoing.remember(name, {"kind": "sidecar", "text": before})
            return write_sidecar(name, with_other_place_gone(table), before)
        edit = _editor(name, source.format, table)
        source.close()
        with undoing.remembering(name):
            undoing.noted(edit(name, changed, table))
        return f"{name}: amended inside"
    finally:
        source.close()


def _moved(name: str, given: Any) -> list[list[float]]:
    """Return the rows of a motion after the one that is kept already; MetadataError for none."""
    matrix = np.asarray(given, np.float64)
    turn = matrix[:3, :3] if matrix.shape == (4, 4) else np.zeros((3, 3))
    if not (np.allclose(turn @ turn.T, np.eye(3), atol=1e-6) and np.isfinite(matrix).all()
            and np.linalg.det(turn) > 0):  # fmt: skip
        raise MetadataError(f"{name}: moved: expected a 4x4 matrix that turns and shifts alone")
    beside = sidecar.read(name)
    before = None if beside is None or beside.grid is None else beside.grid.moved
    if before is not None:
        matrix = matrix @ np.array([*before, (0.0, 0.0, 0.0, 1.0)])
    return [list(map(float, row)) for row in matrix[:3]]


def _tell_units(name: str, source: Source, changed: Source) -> None:
    """Warn of bands whose unit becomes another: their numbers stay as they are."""
    told: dict[tuple[str, str], list[str]] = {}
    for number, (band, now) in enumerate(zip(source.bands, changed.bands, strict=True), 1):
        scaled = (band.scale, band.offset) != (now.scale, now.offset)
        if band.unit not in (None, now.unit, "1") and now.unit is not None and not scaled:
            told.setdefault((str(band.unit), now.unit), []).append(str(number))
    for (before, after), numbers in told.items():
        what = f"band{'s' if len(numbers) > 1 else ''} {', '.join(numbers[:8])}"
        what += f" and {len(numbers) - 8} more" if len(numbers) > 8 else ""
        warn_caller(
            f"{name}: {what} said {before} and now say {after}: the numbers stay as they are, "
            "which is right only where the file was wrong; to convert them: spectrane export "
            f"--unit {after}, or convert({after!r})"
        )


def make_overviews(
    path: str | os.PathLike[str], progress: Progress = no_progress
) -> tuple[str, bool]:
    """Give a file overviews: inside a TIFF, beside any other; return where they are, and whether
    inside.

    Pixels stay as they are. Inside, the file is the old one until the last step, and ``undo``
    takes it back; beside, a run that was killed goes on. Raises FormatError for a volume, and what
    cannot have any.
    """
    name = os.fspath(path).rstrip("/" + os.sep)
    _check_local(name)
    with alone_with(name):
        source = registry.open_source(name)
        try:
            if len(source.shape) != 2:
                raise FormatError(f"{name}: is a volume; overviews are for rasters")
            inside = source.format == "TIFF" and source.members == 1
            if now_trying() is not None:
                return (name if inside else reduced_name(name)), inside
            if not inside:
                return write_reduced(source, name, progress), False
            table: dict[str, Any] = {"overviews": True}
            if isinstance(source, Described) and not source.same_nodata:
                table["nodata"] = {}  # or the file's own rule would leave them aside again
            edit = _editor(name, source.format, table)
            source.close()
            with undoing.remembering(name):
                undoing.noted(edit(name, source, table))
            return name, True
        finally:
            source.close()


def without_nothing(table: dict[str, Any]) -> dict[str, Any]:
    """Return tables without the keys of metadata that are taken away."""
    if "metadata" not in table:
        return table
    kept = {key: value for key, value in table["metadata"].items() if value is not None}
    return {**table, "metadata": kept}


def _tell_slower(name: str, source: Source, changed: Source) -> None:
    """Warn where a large file's overviews are of no use under the new no-data."""
    inside = f"; spectrane amend {name} --inside … makes them anew" * (source.format == "TIFF")
    if source.overviews and not changed.overviews and window_area(whole(source.shape)) > _LARGE:
        warn_caller(
            f"{name}: its overviews mix what is no-data now into the rest and are left aside, so "
            f"that small views take longer{inside}"
        )


def _check_local(name: str) -> None:
    if "://" in name:
        raise FormatError(f"{name}: only files of this machine can be amended; fetch it first")


def _editor(name: str, kind: str, table: Mapping[str, Any]) -> Any:
    """Return what writes such corrections inside a file of a format, or raise FormatError."""
    editor = format_called(kind)
    if editor is None or editor.amend is None:
        raise FormatError(
            f"{name}: {kind} has no place inside for such corrections; leave them in the sidecar"
        )
    unknown = sorted(table.keys() - set(editor.amends))
    if unknown:
        raise FormatError(
            f"{name}: {kind} has no field for {', '.join(unknown)}; leave it in the sidecar"
        )
    return editor.load("amend")


def undo_correction(path: str | os.PathLike[str]) -> str:
    """Take the last correction of a file back; return what that was.

    Raises MetadataError where there is none, or the file has changed since.
    """
    name = os.fspath(path).rstrip("/" + os.sep)  # a folder is kept beside, not inside
    with alone_with(name):
        return undoing.undo_last(name)


def kept_table(path: str | os.PathLike[str]) -> dict[str, Any]:
    """Return what is known of a file, corrections included, as a sidecar's tables."""
    source = registry.open_source(path)
    try:
        return sidecar_table(source)
    finally:
        source.close()
