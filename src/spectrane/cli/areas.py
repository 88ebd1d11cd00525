"""Areas of classes, or of where an expression is true, as shapes: ``export`` to .geojson, .gpkg."""

from __future__ import annotations

from collections import Counter
from typing import TYPE_CHECKING, Any

import click

from spectrane.cli.written import counted, file_facts, size_text

if TYPE_CHECKING:
    from spectrane.raster import Raster

ENDINGS = (".geojson", ".gpkg")
"""Of files that hold shapes."""
READ = ("classes", "where", "bands", "nodata", "compute", "unit", "area", "area_crs", "row_range",
        "column_range", "format")  # fmt: skip
"""Options that are read where shapes are made."""


def written_areas(
    raster: Raster, target: str, *, where: str | None, classes: str | None,
    bands: list[str] | None, overwrite: bool,
) -> tuple[dict[str, Any], str]:  # fmt: skip
    """Write the areas of a raster's classes, or of where an expression is true, as shapes; return
    what was written, as facts and in a line.
    """
    from spectrane.masking import mask
    from spectrane.spatial.shape_files import save_shapes

    if where is not None:
        areas = mask(raster, where=where).to_polygons()
    else:
        areas = raster.to_polygons(_classes(classes), band=_band(bands))
    save_shapes(areas, target, overwrite=overwrite)
    said = [one["properties"] for one in areas["features"]]
    held = Counter(str(one.get("name", one["value"])) for one in said)
    facts = file_facts(target) | {"areas": dict(held), "crs": raster.grid.crs_text}
    many = f"{len(held)} classes" if len(held) != 1 else next(iter(held))
    named = "" if where is not None else f" of {many}"
    return facts, f"{target}: {counted(len(said), 'area')}{named}, {size_text(target)}"


def _classes(text: str | None) -> list[float | str] | None:
    if text is None:
        return None
    return [_class(part.strip()) for part in text.split(",")]


def _class(text: str) -> float | str:
    """Return a class as it is named, or by its stored number."""
    try:
        return float(text)
    except ValueError:
        return text


def _band(names: list[str] | None) -> str:
    if names is not None and len(names) > 1:
        raise click.UsageError("--bands: shapes are the areas of one band")
    return names[0] if names else "1"
