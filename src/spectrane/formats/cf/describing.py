"""What the CF conventions say of a raster: its coordinates and attributes."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from typing import Any, TypeAlias

import numpy as np

from spectrane.formats.cf.arrays import VALIDITY, WORDS
from spectrane.formats.keeping import words_without_field
from spectrane.formats.validity import fill_of, single_nodata
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.source import Source

WAVELENGTH = "wavelength"
Coordinates: TypeAlias = dict[str, tuple[tuple[str, ...], Any, dict[str, Any]]]
"""Name -> dimensions, values, attributes."""


def stored_dtype(source: Source) -> np.dtype[Any]:
    """Return the type that is written: flags are bytes."""
    return np.dtype(np.uint8) if source.dtype.kind == "b" else source.dtype


def dimensions_of(source: Source) -> list[str]:
    """Return the names of an array's dimensions: band (of several), y, x."""
    lead = ["band"] if len(source.bands) > 1 else []
    return [*lead, "y", "x"]


def coordinates_of(source: Source) -> Coordinates:
    """Return name -> (dimensions, values, attributes) of the coordinate variables."""
    grid = source.grid
    coordinates: Coordinates = {}
    if grid.placed and not grid.rotated:
        (y, x), kind = axes_of(grid), axis_attributes(grid)
        coordinates |= {"y": (("y",), y, kind[0]), "x": (("x",), x, kind[1])}
    if len(source.bands) > 1:
        coordinates["band"] = (("band",), np.arange(1, len(source.bands) + 1, dtype=np.int32),
                         {"long_name": "band number"})  # fmt: skip
    waves = [np.nan if band.wavelength is None else band.wavelength for band in source.bands]
    if np.isfinite(waves).any():
        along = ("band",) if len(waves) > 1 else ()
        said = {"units": "nm", "standard_name": "radiation_wavelength"}
        coordinates[WAVELENGTH] = (along, np.array(waves if along else waves[0]), said)
    if grid.crs_text:
        coordinates["crs"] = ((), np.int32(0), grid_mapping_of(grid))
    return coordinates


def axes_of(grid: Grid) -> tuple[Any, Any]:
    """Return y of the rows' and x of the columns' centres."""
    a, _, c, _, e, f = grid.coefficients
    return (np.arange(grid.rows) + 0.5) * e + f, (np.arange(grid.columns) + 0.5) * a + c


def axis_attributes(grid: Grid) -> tuple[dict[str, Any], dict[str, Any]]:
    """Return what says which axis y and x are, and in which unit (CF 1.11, 4.1, 4.2 and 5.6)."""
    system = grid.crs
    if system is not None and system.is_geographic:
        return ({"standard_name": "latitude", "units": "degrees_north", "axis": "Y"},
                {"standard_name": "longitude", "units": "degrees_east", "axis": "X"})  # fmt: skip
    return (
        {"standard_name": "projection_y_coordinate", "units": _unit(grid), "axis": "Y"},
        {"standard_name": "projection_x_coordinate", "units": _unit(grid), "axis": "X"},
    )


def _unit(grid: Grid) -> str:
    """Return the unit of the map's axes as UDUNITS spells it; metres where nothing says."""
    system = grid.crs
    axes = [] if system is None else system.axis_info
    name = axes[0].unit_name if axes else "metre"
    return "m" if name == "metre" else name.replace(" ", "_")


def grid_mapping_of(grid: Grid) -> dict[str, Any]:
    """Return the attributes of the grid mapping variable (CF 1.11, 5.6); empty without a system."""
    if not grid.crs_text:
        return {}
    system = grid.crs
    if system is None:
        return {"long_name": grid.crs_text, "crs": grid.crs_text}
    mapping = {k: v for k, v in system.to_cf().items() if v is not None}
    return mapping | {"crs_wkt": system.to_wkt()}


def attributes_of(
    source: Source, name: str, *, elsewhere: Collection[str] = (), told: Collection[str] = ()
) -> dict[str, Any]:  # fmt: skip
    """Return the attributes of the array; ``name`` is what it is handed to, for warnings, and
    ``elsewhere`` are fields of bands (and ``grid``) that it has besides, ``told`` those it has in
    another way.
    """
    bands, one = source.bands, source.bands[0]
    held = held_fields(bands) | set(elsewhere)
    attributes: dict[str, Any] = {}
    if "scale" in held and one.scaled:
        attributes |= {"scale_factor": one.scale, "add_offset": one.offset}
    if "unit" in held and one.unit:
        attributes["units"] = one.unit
    fill = fill_of(one, source.dtype) if single_nodata(bands) is not None else None
    if fill is not None and fill == fill:  # NaN needs no word
        attributes["_FillValue"] = np.asarray(fill, stored_dtype(source)).item()
    if len(bands) == 1:
        attributes["long_name"] = one.description or one.name
    attributes["band_names"] = [band.name for band in bands]
    if any(band.wavelength is not None for band in bands):
        attributes["coordinates"] = WAVELENGTH
    if source.grid.crs_text:
        attributes["grid_mapping"] = "crs"
    if source.has_mask:
        attributes["ancillary_variables"] = VALIDITY
    classes = source.look.classes if source.look else {}
    if classes and len(bands) == 1 and source.dtype.kind in "iu":
        order = sorted(classes)
        attributes["flag_values"] = [int(value) for value in order]
        attributes["flag_meanings"] = " ".join(
            classes[v][1].replace(" ", "_") or "_" for v in order
        )
        attributes["flag_colors"] = " ".join(classes[v][0] for v in order)
    history = source.metadata.get("provenance", ())
    attributes |= {"history": "\n".join(map(str, history))} if history else {}
    placed = "grid" in elsewhere or not (source.grid.placed and source.grid.rotated)
    words = words_without_field(source, held, format=name, where=f"an attribute ({WORDS})",
                                place=placed, classes="flag_values" in attributes,
                                told=told)  # fmt: skip
    return attributes | ({WORDS: words} if words else {})


def held_fields(bands: Sequence[Band]) -> set[str]:
    """Return what CF's attributes say of the bands: what is the same in all of them."""
    held = {"name", "wavelength"}
    if len({(band.scale, band.offset) for band in bands}) == 1:
        held |= {"scale", "offset"}
    if len({band.unit for band in bands}) == 1:
        held.add("unit")
    if single_nodata(bands) is not None:
        held.add("nodata")
    if len(bands) == 1:
        held.add("description")
    return held
