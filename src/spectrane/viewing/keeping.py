"""What a live view writes: pictures, looks, layers, marks and Python, a look beside its file."""

from __future__ import annotations

import json
import os
from typing import Any

from spectrane.analysis.spectra import Spectra
from spectrane.display.layers import Layer, stacked
from spectrane.display.outlines import Outline
from spectrane.engine.csv_text import write_csv
from spectrane.model.addresses import file_name, is_address
from spectrane.model.errors import ExistingFile, LookError
from spectrane.model.regular_files import named_from
from spectrane.model.systems import LONLAT, way_between
from spectrane.model.whole_files import written_whole
from spectrane.opening import amend
from spectrane.viewing.leaving import render_python
from spectrane.viewing.reading import outline_rows, outline_shapes, rows_at, spectra_of
from spectrane.viewing.session import Session

_FILES = ("file", "outline", "clip", "look")


def free_path(folder: str, ending: str, stem: str = "view") -> str:
    """Return a path in a folder that is not taken: view.png, view-2.png …"""
    os.makedirs(folder, exist_ok=True)
    for number in range(1, 10_000):
        name = f"{stem}{'' if number == 1 else f'-{number}'}{ending}"
        if not os.path.exists(os.path.join(folder, name)):
            return os.path.join(folder, name)
    raise ExistingFile(f"{folder}: holds too many files of the name {stem}{ending}")


def save_picture(session: Session, folder: str, bits: int = 8) -> list[str]:
    """Write what the active panel shows as PNG of 8 or 16 bits, and return its path."""
    path = free_path(folder, ".png")
    drawn = stacked(session.layers(), view=session.view(), tell=False)  # the page tells it
    drawn.picture().save(path, bits=bits)
    return [path]


def save_look(session: Session, folder: str, bits: int = 8) -> list[str]:
    """Write the active layer's look, and return its path."""
    path = free_path(folder, ".look.toml")
    session.state.layers[session.state.active].look.save(path)
    return [path]


def save_python(session: Session, folder: str, bits: int = 8) -> list[str]:
    """Write the Python that draws the same, and return its path."""
    path = free_path(folder, ".py")
    with written_whole(path, overwrite=False) as file:
        file.write(render_python(session).encode())
    return [path]


def save_layers(session: Session, folder: str, bits: int = 8) -> list[str]:
    """Write the layers of the active panel as a layer file, and return its path.

    Raises LookError for a layer that is no file.
    """
    from spectrane.display.layer_file import write_layers  # which needs pydantic

    path = free_path(folder, ".layers.toml")
    opened = session.opened
    tables = []
    for number in session.state.order:
        one, shown = opened[number], session.state.layers[number]
        if one.table is None:
            raise LookError(f"{one.layer.title}: is no file, and no layer file can name it")
        table = {key: named_from(value, path) if key in _FILES and isinstance(value, str) else value
                 for key, value in one.table.items()}  # fmt: skip
        look = {} if isinstance(one.layer, Outline) else {"look": shown.look.to_dict()}
        said: dict[str, Any] = look | {"opacity": shown.opacity, "visible": shown.visible}
        if not isinstance(one.layer, Outline):
            said |= {"mode": shown.mode}
        said |= {} if shown.threshold is None else {"threshold": shown.threshold}
        tables.append(table | said)
    write_layers(path, tables)
    return [path]


def save_spectra(session: Session, folder: str, bits: int = 8) -> list[str]:
    """Write what stands under the marks as a spectral library (TOML), and return its path."""
    told = spectra_of(session)
    known = [values for values in told["marks"] if values]
    if not known:
        raise LookError("no marks on the active layer: click the picture, or press M")
    source = session.active_source
    assert source is not None
    waves = [float("nan") if one is None else one for one in told["wavelengths"]]
    nominal = any(band.wavelength is None for band in source.bands)
    library = Spectra(waves, unit=source.bands[0].unit, nominal=nominal)
    for number, values in enumerate(told["marks"], 1):
        if values:
            library.add(f"mark {number}", [float("nan") if v is None else v for v in values])
    path = free_path(folder, ".spectra.toml")
    library.save(path)
    return [path]


def save_marks(session: Session, folder: str, bits: int = 8) -> list[str]:
    """Write marks and outlines as GeoJSON, their values and statistics as CSV; return the paths.

    Positions of GeoJSON are longitude and latitude (RFC 7946, section 4), or the raster's own
    where it has no coordinate system.
    """
    import pandas

    shapes = outline_shapes(session)
    if not shapes["features"]:
        raise LookError("nothing is marked: click the picture, or draw an outline")
    path = free_path(folder, ".geojson", "marks")
    with written_whole(path, overwrite=False) as file:
        file.write(json.dumps(_in_degrees(session, shapes), indent=1).encode())
    written = [path]
    marks, within = _mark_rows(session), outline_rows(session) if session.state.outlines else []
    for stem, rows in (("marks", marks), ("outlines", within)):
        if rows:
            written.append(free_path(folder, ".csv", stem))
            write_csv(pandas.DataFrame(rows), written[-1], overwrite=False)
    return written


def _mark_rows(session: Session) -> list[dict[str, Any]]:
    layers = [one for one in session.layers() if isinstance(one, Layer) and one.visible]
    return [
        {**one, "point": f"mark {number}", "x": x, "y": y}
        for number, (x, y) in enumerate(session.state.marks, 1)
        for one in rows_at(session, layers, x, y)
    ]


def _in_degrees(session: Session, shapes: dict[str, Any]) -> dict[str, Any]:
    if session.base.crs_text is None:
        return shapes
    way = way_between(session.base.crs_text, LONLAT)

    def turned(held: Any) -> Any:
        if isinstance(held[0], list):
            return [turned(one) for one in held]
        lon, lat = way.transform(*held)
        return [round(float(lon), 9), round(float(lat), 9)]

    for feature in shapes["features"]:
        geometry = feature["geometry"]
        geometry["coordinates"] = turned(geometry["coordinates"])
    return shapes


def _file(session: Session) -> tuple[str, Any]:
    number = session.state.active
    return kept_with(session.opened[number].file), session.state.layers[number].look


def kept_with(file: str | None) -> str:
    """Return the file that something is to be kept with. Raises LookError where nothing can be."""
    if file is None:
        raise LookError("the active layer is no file: nothing can be kept with it")
    if is_address(file):
        raise LookError(f"{file}: lies elsewhere, and only with files of this machine something is "
                        "kept; save the look, and give it with --look")  # fmt: skip
    return file


def kept_text(session: Session) -> str:
    """Say what keeping the active layer's look with its file writes."""
    file, look = _file(session)
    said = [f"{key} = {value}" for key, value in look.to_dict().items()] or ["no look"]
    declared = dict(session.state.nodata).get(session.state.active)
    said += [] if declared is None else [f"nodata = {list(declared)}"]
    return f"{file_name(file)}.spectrane.toml: {', '.join(said)}"


def keep_look(session: Session) -> str:
    """Keep the active layer's look in its file's sidecar, with no-data that was declared since the
    view was opened, and return the sidecar's path.
    """
    file, look = _file(session)
    declared = dict(session.state.nodata).get(session.state.active)
    amend(file, look=look, nodata=... if declared is None else list(declared))
    return f"{file}.spectrane.toml"
