"""What a raster is, said so that a person can check it at a glance."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import asdict
from typing import Any, ClassVar

import numpy as np

from spectrane.analysis.coordinate_systems import system_facts
from spectrane.kernels.records import record
from spectrane.model.band import band_facts
from spectrane.model.html import table_html
from spectrane.model.printing import MOST_LINES, printable, printable_line, share_text
from spectrane.model.said import GIVEN, KEYS, cloud_of, date_of, date_text, title_of
from spectrane.model.source import Source, called


@record(frozen=True)
class Description:
    """A raster's size, type, bands, place and no-data; prints as text and as HTML.

    >>> import numpy as np, spectrane as sp
    >>> said = sp.from_array(np.ones((2, 3))).describe()
    >>> str(said).splitlines()[0].split()
    ['File', 'an', 'array', 'in', 'memory', '(memory)']
    """

    facts: dict[str, Any]
    bands: tuple[dict[str, Any], ...]
    statistics: tuple[dict[str, Any], ...] = ()
    warnings: tuple[dict[str, Any], ...] = ()
    unit_of_bands: ClassVar[str] = "band"

    def format_facts(self) -> list[tuple[str, str]]:
        """Return what there is to say, a title and a text each.

        >>> import numpy as np, spectrane as sp
        >>> dict(sp.from_array(np.ones((2, 3))).describe().format_facts())["Size"]
        '3 columns x 2 rows, float64'
        """
        return _format_facts(self.facts)

    def to_dict(self) -> dict[str, Any]:
        """Return everything as plain values, ready for JSON.

        >>> import numpy as np, spectrane as sp
        >>> sp.from_array(np.ones((2, 3))).describe().to_dict()["rows"]
        2
        """
        found = {
            **self.facts,
            f"{self.unit_of_bands}s": list(self.bands),
            "warnings": list(self.warnings),
            "cure": self.cure,
        }
        return found | ({"statistics": list(self.statistics)} if self.statistics else {})

    @property
    def _mending(self) -> list[dict[str, Any]]:
        return [warning for warning in self.warnings if warning["fix"].startswith("spectrane ")]

    @property
    def cure(self) -> str:
        """What mends all that is warned of: one command where it is one, else a line for each."""
        from spectrane.analysis.checks import cure

        return cure([one["fix"] for one in self._mending])

    def __str__(self) -> str:
        """Return aligned lines: facts, then a table of bands, then one of statistics."""
        rows = self.format_facts()
        width = max(len(name) for name, _ in rows)
        lines = [f"{name:<{width}}  {printable_line(value)}" for name, value in rows]
        lines += ["", *self._band_lines()]
        if self.statistics:
            lines += ["", *aligned_table(_statistics_rows(self.statistics, self.unit_of_bands))]
        lines += [""] if self.warnings else []
        several = len(mending := self._mending) > 1
        for warning in self.warnings:
            lines.append(f"Warning  {warning['message']}")
            if not several or warning not in mending:
                lines.append(f"         {warning['fix']}")
        lines += [f"Mend     {line}" for line in self.cure.splitlines() if several]
        return printable("\n".join(lines))

    def _band_lines(self) -> list[str]:
        """Return the table of bands or frames as aligned lines."""
        lines = aligned_table(_band_rows(self.bands[:MOST_LINES], self.unit_of_bands))
        if len(self.bands) > MOST_LINES:
            more = len(self.bands) - MOST_LINES
            lines.append(f"… and {more} more {self.unit_of_bands}s; --json and to_dict() list all")
        return lines

    def _repr_html_(self) -> str:
        rows = table_html(self.format_facts(), headed=False)
        tables = [table_html(_band_rows(self.bands, self.unit_of_bands))]
        if self.statistics:
            tables.append(table_html(_statistics_rows(self.statistics, self.unit_of_bands)))
        if self.warnings:
            told = [
                ["Warning", "What mends it"],
                *([w["message"], w["fix"]] for w in self.warnings),
            ]
            tables.append(table_html(told))
        return f"{rows}{''.join(tables)}"


def describe(
    source: Source, statistics: Sequence[Mapping[str, Any]] = (), *, check: bool = True
) -> Description:
    """Describe a source; with ``check`` a sample of its pixels is read for the warnings."""
    from spectrane.analysis.checks import findings

    grid = source.grid
    facts: dict[str, Any] = {
        "file": called(source, "") or None,
        "format": source.format,
        "members": source.members,
        "compression": source.metadata.get("compression"),
        "rows": grid.rows,
        "columns": grid.columns,
        "type": source.stored_type.name,
        "bits": used_bits(source),
        "block": list(source.block_shape),
        "overviews": [list(shape) for shape in source.overviews],
        **_place_facts(source),
        "nodata_when": source.nodata_when,
        "mask": source.has_mask,
        "alpha": source.alpha,
        "orientation": source.orientation,
        "axes": list(source.axes),
        "classes": _classes(source),
        "look": look_facts(source),
        "notes": source.metadata.get("notes"),
        **_said_of(source),
        **kept_facts(source),
    }
    bands = band_facts(source.bands)
    found = tuple(asdict(finding) for finding in findings(source, pixels=check))
    return Description(facts, bands, tuple(dict(one) for one in statistics), found)


def kept_facts(source: Source) -> dict[str, Any]:
    """Return what else a file keeps: its own windows, overlays that are not drawn, what objects
    beside it say, and which of its elements say who somebody is; what they say is not told.
    """
    windows = [
        {"number": number, "center": window.center, "width": window.width,
         "function": window.function, "explanation": window.explanation, "said": str(window)}
        for number, window in enumerate(source.windows, 1)
    ]  # fmt: skip
    overlays = source.metadata.get("overlays")
    return {
        "windows": windows,
        "overlays": list(overlays) if isinstance(overlays, list) else [],
        "presented": list(source.metadata.get("presentation states", ())),
        "real_values": source.metadata.get("real values"),
        "identity": [_without_creator(name) for name in source.identity],
    }


def _without_creator(name: str) -> str:
    """Return a private element's tag alone: its creator's text may say who somebody is, too.

    >>> _without_creator("(0009,1001) ACME")
    '(0009,1001)'
    """
    return name.split(" ")[0] if name.startswith("(") else name


def spoken_kept(facts: dict[str, Any]) -> list[tuple[str, str]]:
    """Return what ``kept_facts`` found, a title and a text each."""
    rows = [("Windows" if k == 0 else "", f"{window['number']} {window['said']}")
            for k, window in enumerate(facts["windows"])]  # fmt: skip
    rows += [("Overlays" if k == 0 else "", f"{text}; not drawn")
             for k, text in enumerate(facts["overlays"])]  # fmt: skip
    rows += [("Presented" if k == 0 else "", text) for k, text in enumerate(facts["presented"])]
    rows += [("Values", facts["real_values"])] if facts["real_values"] else []
    names = facts["identity"]
    for k in range(0, len(names), 4):
        comma = "," if k + 4 < len(names) else ""
        rows.append(("Identity" if k == 0 else "", ", ".join(names[k : k + 4]) + comma))
    return [*rows, ("", "(what they say is withheld; --identity shows it)")] if names else rows


def without_identity(metadata: Mapping[str, Any], names: Sequence[str]) -> dict[str, Any]:
    """Return metadata without the elements that say who somebody is, in sequences too.

    >>> without_identity({"Rows": 2, "Items": [{"PatientID": "7", "Unit": "mm"}]}, ["PatientID"])
    {'Rows': 2, 'Items': [{'Unit': 'mm'}]}
    """
    return {
        name: [without_identity(one, names) if isinstance(one, Mapping) else one for one in value]
        if isinstance(value, list) else value
        for name, value in metadata.items() if name not in names
    }  # fmt: skip


def used_bits(source: Source) -> int:
    """Return how many bits of each stored number the file says are used."""
    said = source.metadata.get("BitsPerSample", source.metadata.get("bits"))
    said = said[0] if isinstance(said, list) and said else said
    return said if isinstance(said, int) else 8 * source.stored_type.itemsize


def _said_of(source: Source) -> dict[str, Any]:
    """Return title, date (ISO 8601) and cloud cover, and all that a person said."""
    date = date_of(source.metadata)
    return {
        "title": title_of(source.metadata), "date": None if date is None else date_text(date),
        "cloud": cloud_of(source.metadata),
        "given": dict(source.metadata.get(GIVEN, {})),
    }  # fmt: skip


def _place_facts(source: Source) -> dict[str, Any]:
    grid = source.grid
    system = system_facts(source)
    return {
        "coordinate_system": grid.crs_text,
        "coordinate_system_name": system.name,
        "placed": grid.placed,
        "pixel_size": list(grid.pixel_size) if grid.placed else None,
        "pixel_unit": system.unit,
        "rotated": grid.rotated,
        "corners": [list(corner) for corner in grid.corners] if grid.placed else None,
        "corners_lonlat": system.corners,
        "bounds": list(grid.bounds) if grid.placed else None,
    }


def look_facts(source: Source) -> dict[str, Any] | None:
    """Return the display kept with a source as plain values; None where there is none."""
    if source.look is None:
        return None
    shown = source.look.to_dict()
    shown.pop("classes", None)
    return shown or None


def _classes(source: Source) -> list[dict[str, Any]] | None:
    if source.look is None or not source.look.classes:
        return None
    return [
        {"value": value, "color": color, "label": label}
        for value, (color, label) in sorted(source.look.classes.items())
    ]


def _format_facts(facts: dict[str, Any]) -> list[tuple[str, str]]:
    compression = facts["compression"]
    packed = f", {compression} compression" if compression not in (None, "none") else ""
    blocks = "{} x {} pixels".format(facts["block"][1], facts["block"][0])
    rows = [
        ("File", f"{facts['file'] or 'an array in memory'} ({facts['format']}{packed})"),
        *members_row(facts),
        ("Size", f"{facts['columns']} columns x {facts['rows']} rows, {spoken_type(facts)}"),
        ("Blocks", blocks),
        ("Overviews", _overviews(facts["overviews"])),
        *_place(facts),
        ("Validity", _validity(facts)),
    ]
    if facts["orientation"] != 1:
        rows.append(("Orientation", f"{facts['orientation']}: turned upright when drawn"))
    rows += [("Axes" if k == 0 else "", text) for k, text in enumerate(facts["axes"])]
    if facts["look"]:
        rows.append(("Display", spoken_look(facts["look"])))
    rows += [(key.capitalize(), f"{facts[key]:g} %" if key == "cloud" else str(facts[key]))
             for key in KEYS if facts[key] is not None]  # fmt: skip
    rows += [(key, str(value)) for key, value in facts["given"].items() if key not in KEYS]
    if facts["notes"]:
        rows.append(("Notes", str(facts["notes"])))
    rows += spoken_kept(facts)
    if facts["classes"]:
        named = [f"{c['value']:g} {c['label'] or c['color']}" for c in facts["classes"]]
        more = f", and {len(named) - 16} more" if len(named) > 16 else ""
        rows.append(("Classes", ", ".join(named[:16]) + more))
    return rows


def members_row(facts: dict[str, Any]) -> list[tuple[str, str]]:
    """Return how many rasters the file holds; nothing where it is one."""
    many = facts["members"] > 1
    told = f"{facts['members']} (spectrane describe --members lists them)"
    return [("Members", told)] if many else []


def spoken_look(look: dict[str, Any]) -> str:
    """Return the facts of a look in one line."""
    return ", ".join(f"{key} {_spoken_value(value)}" for key, value in look.items())


def _spoken_value(value: Any) -> str:
    return ",".join(map(str, value)) if isinstance(value, list) else str(value)


def spoken_type(facts: dict[str, Any]) -> str:
    """Return the type's name, and the bits used where they are fewer."""
    held = 8 * np.dtype(facts["type"]).itemsize
    return str(facts["type"]) + (f" ({facts['bits']} bits used)" if facts["bits"] < held else "")


def _overviews(shapes: Sequence[Sequence[int]]) -> str:
    return ", ".join(f"{columns} x {rows}" for rows, columns in shapes) or "none"


def _place(facts: dict[str, Any]) -> list[tuple[str, str]]:
    code, name = facts["coordinate_system"], facts["coordinate_system_name"]
    system = f"{code} ({name})" if code and name else code or name or "none"
    if not facts["placed"]:
        return [("Coordinates", system), ("Place", "none: positions are rows and columns")]
    dx, dy = facts["pixel_size"]
    size = f"{dx:.10g}" if dx == dy else f"{dx:.10g} x {dy:.10g}"
    unit = facts["pixel_unit"]
    size += (
        ""
        if unit is None
        else f" {unit}"
        if dx == 1 or unit == "mm" or unit[-1] == "s"
        else f" {unit}s"
    )
    spoken = []
    degrees = facts["corners_lonlat"] or [None] * 4
    for title, corner, lonlat in zip(("First corner", "Last corner"), facts["corners"][::2],
                                     degrees[::2], strict=True):  # fmt: skip
        text = f"x {corner[0]:.10g}, y {corner[1]:.10g}"
        if lonlat is not None and facts["pixel_unit"] != "degree":
            text += f"  (longitude {lonlat[0]:.6f}, latitude {lonlat[1]:.6f})"
        spoken.append((title, text))
    return [
        ("Coordinates", system),
        ("Pixel size", size + (" (rows run askew to the axes)" if facts["rotated"] else "")),
        *spoken,
    ]


def _validity(facts: dict[str, Any]) -> str:
    parts = ["mask in the file"] if facts["mask"] else []
    parts += [f"{facts['alpha']} alpha"] if facts["alpha"] else []
    when = "hidden only where all bands are no-data" if facts["nodata_when"] == "all" else ""
    parts += [when] if when else []
    return ", ".join(parts) or "by no-data value alone (see the bands)"


def _band_rows(bands: Sequence[dict[str, Any]], one: str) -> list[list[str]]:
    """Return the table of bands without the columns that say nothing."""
    titles = {
        "number": one.capitalize(), "name": "Name", "role": "Role", "wavelength": "Wavelength nm",
        "unit": "Unit", "scale": "Scale", "offset": "Offset", "nodata": "No-data",
        "description": "Description", "time": "Time s", "statistic": "Statistic",
    }  # fmt: skip
    about = [band.get("nominal_wavelength") for band in bands]
    bands = [band if nominal is None else {**band, "wavelength": f"about {nominal:g}"}
             for band, nominal in zip(bands, about, strict=True)]  # fmt: skip
    plain = {"scale": 1.0, "offset": 0.0, "unit": "1"}  # "1": a pure number
    always = ("number", "name", "nodata")
    kept = [
        key for key in titles
        if key in always or any(band[key] not in (None, plain.get(key)) for band in bands)
    ]  # fmt: skip
    return [[titles[key] for key in kept], *([_said(b[key]) for key in kept] for b in bands)]


_TITLES = {
    "zone": "Zone", "band": "", "class": "Class", "label": "Label", "pixels": "Pixels",
    "share": "Share", "hectares": "Hectares", "km2": "km²", "valid": "Valid", "invalid": "Invalid",
    "min": "Min", "p1": "1 %", "p50": "Median", "p99": "99 %", "max": "Max", "mean": "Mean",
    "std": "Std", "unit": "Unit",
}  # fmt: skip


def _statistics_rows(statistics: Sequence[dict[str, Any]], one: str) -> list[list[str]]:
    """Return the table of statistics, of bands or of classes, without columns that say nothing."""
    kept = [key for key in _TITLES if key in statistics[0]]
    if all(item.get("unit") in (None, "1") for item in statistics) and "unit" in kept:
        kept.remove("unit")
    rows = [["" if key == "unit" and item[key] is None else share_text(item[key]) if key == "share"
             else _said(item[key]) for key in kept] for item in statistics]  # fmt: skip
    return [[_TITLES[key] or one.capitalize() for key in kept], *rows]


def _said(value: Any) -> str:
    if value is None:
        return "none"
    if isinstance(value, tuple):
        return ", ".join(
            f"{i[0]:g} to {i[1]:g}" if isinstance(i, tuple) else f"{i:g}" for i in value
        )
    return f"{value:.6g}" if isinstance(value, float) else str(value)


def aligned_table(rows: Sequence[Sequence[str]]) -> list[str]:
    """Align columns: numbers to the right, words to the left."""
    columns = list(zip(*rows, strict=True))
    widths = [max(map(len, column)) for column in columns]
    right = [all(_numeric(cell) for cell in column[1:]) for column in columns]
    return [
        "  ".join(
            cell.rjust(width) if to_right else cell.ljust(width)
            for cell, width, to_right in zip(row, widths, right, strict=True)
        ).rstrip()
        for row in rows
    ]


def _numeric(cell: str) -> bool:
    try:
        float(cell)
    except ValueError:
        return cell == "none"
    return True
