"""``spectrane probe``: values at positions, through every layer; and profiles."""

from __future__ import annotations

import contextlib
import math
from typing import Any

import click

from spectrane.cli import vocabulary as words
from spectrane.cli.answering import Answer, answering, records, rows_text, table_text
from spectrane.cli.files import OpeningOptions, read_shapes_given
from spectrane.cli.looks import LOOK_ONLY, LookOptions
from spectrane.cli.measuring_lines import measure
from spectrane.cli.options import argument, command_of, option
from spectrane.cli.values import Numbers
from spectrane.cli.written import file_facts, size_text
from spectrane.engine.csv_text import write_csv
from spectrane.kernels.records import record
from spectrane.model.addresses import file_stem, has_ending
from spectrane.model.printing import MOST_LINES
from spectrane.model.whole_files import check_target


@record(frozen=True)
class ProbeOptions(LookOptions, OpeningOptions):
    """What ``probe`` takes."""

    files: tuple[str, ...] = argument("FILE...", many=True, required=True)
    at: tuple[tuple[float, ...], ...] = words.position(multiple=True)
    pixel_at: tuple[tuple[int, int], ...] = option(
        "--pixel-at", group="Place", multiple=True, type=Numbers(2, "ROW,COLUMN", kind=int),
        help="A pixel, from 0.",
    )  # fmt: skip
    voxel_at: tuple[tuple[int, int, int], ...] = option(
        "--voxel-at", group="Place", multiple=True, type=Numbers(3, "I,J,K", kind=int),
        help="A voxel of the first volume, from 0.",
    )  # fmt: skip
    line: tuple[tuple[float, float], tuple[float, float]] | None = option(
        "--line", group="Place", nargs=2, type=Numbers(2, "X,Y"), metavar="X,Y X,Y",
        help="Values and distances along a straight line.",
    )  # fmt: skip
    angle: tuple[tuple[float, ...], ...] | None = option(
        "--angle", group="Place", nargs=3, type=Numbers(2, "X,Y"), metavar="X,Y X,Y X,Y",
        help="The angle at the second of three positions.",
    )  # fmt: skip
    ellipse: tuple[tuple[float, ...], ...] = option(
        "--ellipse", group="Place", multiple=True, type=Numbers(4, "X,Y,RX,RY[,DEGREES]", most=5),
        help="Mean and σ in an ellipse, with its radii along x and y.",
    )  # fmt: skip
    rectangle: tuple[tuple[float, ...], ...] = option(
        "--rectangle", group="Place", multiple=True, type=Numbers(4, "X1,Y1,X2,Y2"),
        help="Mean and σ between two corners.",
    )  # fmt: skip
    points: str | None = words.points()
    points_crs: str | None = words.points_crs()
    layer: str | None = words.layer("Place")
    region: tuple[str, ...] = option(
        "--region", group="Place", multiple=True, type=click.Path(),
        help="Instead of points: a volume that is not 0 where voxels count; each label of labels.",
    )  # fmt: skip
    label: tuple[str, ...] = option(
        "--label", group="Place", multiple=True, metavar="NAME",
        help="These labels of --region alone, by name or number.",
    )  # fmt: skip
    profile: str | None = option(
        "--profile", group="Output", type=click.Path(),
        help="Values by band, or by frame of a volume, as a figure (.png, .pdf, .svg).",
    )  # fmt: skip
    csv: str | None = words.csv()
    spectra: str | None = option("--spectra", group="Result", type=click.Path(),
                                 help="Named spectra (.toml) to rank by nearness.")  # fmt: skip
    keep_spectra: str | None = option("--keep-spectra", group="Output", type=click.Path(),
                                      help="Keep the points' spectra (.toml).")  # fmt: skip
    size: tuple[int, int] = words.size((800, 1280))
    dry_run: bool = words.dry_run()
    overwrite: bool = words.overwrite()

    def outputs(self) -> list[str]:
        """Return the files that are to be written, which can be; refuse what is for others."""
        asked = [one for one in (self.csv, self.profile, self.keep_spectra) if one]
        if not asked:
            self.refuse(["overwrite"], "without a file to write")
        if not self.profile:
            self.refuse(["size"], "without --profile")
        for output in asked:
            check_target(output, overwrite=self.overwrite)
        return asked


@command_of("probe", ProbeOptions, examples=(
    "probe demo/sound_8band.tif demo/sound_thermal.tif --at 490000,7357000",
    "probe demo/sound_8band.tif --points demo/stations.csv --profile spectra.png",
    "probe demo/fetlock.nii.gz demo/fetlock_effect.nii.gz --at 12,0,9",
))  # fmt: skip
def command(options: ProbeOptions) -> None:
    """Tell what stands under a point: stored number, physical value, shown level and colour.

    With --profile, or polygons in --points, values by band are drawn or tabled instead; of several
    dated files, those over time.
    """
    from spectrane.opening import open as open_any
    from spectrane.raster import Raster

    if options.line or options.angle:
        measure(options)
        return
    points = _points(options)
    fields = options.look_fields()
    count = len(options.files)
    outputs = options.outputs()
    with answering(options) as answer, contextlib.ExitStack() as stack:
        opened = [stack.enter_context(open_any(file, **options.opening(k, count)))
                  for k, file in enumerate(options.files)]  # fmt: skip
        if not all(isinstance(one, Raster) for one in opened):
            table = _of_volumes(opened, points, options, stack)
        else:
            table = _of_rasters(opened, points, fields, options, answer)
        _tell(table, outputs, options, answer)


def _points(options: ProbeOptions) -> Any:
    if any(len(at) == 1 for at in options.at):
        raise click.UsageError("--at: expected X,Y on a map, or X,Y,Z in mm of a volume")
    listed: list[dict[str, Any]] = [dict(zip("xyz", at, strict=False)) for at in options.at]
    listed += [{"row": row, "column": column} for row, column in options.pixel_at]
    listed += [dict(zip("ijk", at, strict=True)) for at in options.voxel_at]
    shaped = _shaped(options)
    if bool(listed) + bool(options.points) + bool(options.region) + bool(shaped) != 1:
        raise click.UsageError(
            "say where: --at X,Y, --pixel-at ROW,COLUMN, --voxel-at I,J,K, --points FILE, "
            "--ellipse, --rectangle, --line, --angle, or --region FILE"
        )
    if shaped is not None:
        options.refuse(["layer", "points_crs"], "with --ellipse and --rectangle")
        return shaped
    path = options.points
    if listed or path is None or has_ending(path, ".csv"):
        options.refuse(["layer"], "but with --points FILE of a GeoPackage")
        return listed or path
    return read_shapes_given(path, options.layer, options.points_crs, "points_crs")


def _of_rasters(
    opened: list[Any], points: Any, fields: dict[str, Any], options: ProbeOptions, answer: Answer
) -> Any:
    """Return what stands under points of rasters, as rows, or values by band, as a table."""
    from spectrane.looking import probe_rows, profile

    options.refuse(["region", "label"], "of rasters, which take polygons by --points")
    options.refuse(["voxel_at"], "of rasters, which take --at X,Y and --pixel-at")
    if any(len(at) == 3 for at in options.at):
        raise click.UsageError("--at X,Y,Z is for volumes; rasters take --at X,Y")
    layers = []
    for raster in opened:
        shown = options.computed(raster, among=len(opened))
        layers.append((shown, options.look_for(shown, fields)))
    by_band = options.profile or options.spectra or options.keep_spectra
    if not by_band and not _has_polygons(points):
        return probe_rows(layers, points=points, crs=options.points_crs)
    if len(opened) > 1:
        return _over_time([shown for shown, _ in layers], points, options)
    options.refuse(LOOK_ONLY - {"nodata_when"}, "with values by band: they are not shown")
    table = profile(layers[0][0], points, crs=options.points_crs)
    _by_band(layers[0][0], table, options, answer)
    return table


def _of_volumes(opened: list[Any], points: Any, options: ProbeOptions, stack: Any) -> Any:
    """Return what stands under points of volumes, or the profile by frame."""
    from spectrane.looking import probe, profile

    options.refuse_others(
        ("at", "voxel_at", "points", "profile", "region", "label", "csv", "size"), "of volumes"
    )
    if not options.region:
        options.refuse(["label"], "without --region")
    if not options.profile and not options.region:
        return probe(opened, points=points)
    if len(opened) > 1:
        raise click.UsageError("values by frame are of one volume; say one")
    table = _by_region(opened[0], options, stack) if options.region else (
        profile(opened[0], points))  # fmt: skip
    if options.profile:
        _draw_profile(table, options)
    return table


def _by_region(volume: Any, options: ProbeOptions, stack: Any) -> Any:
    """Return values by frame over regions, or in each label of them, as one table."""
    import pandas

    from spectrane.opening import open_volume

    tables, several = [], len(options.region) > 1
    for path in options.region:
        region = stack.enter_context(open_volume(path))
        stem = file_stem(path.rstrip("/"))
        if options.label or (region.look is not None and region.look.classes):
            table = volume.profile(labels=region, names=options.label or None)
            table["zone"] = [f"{stem}: {zone}" if several else zone for zone in table["zone"]]
        else:
            table = volume.profile(region={stem if several else "region": region})
        tables.append(table)
    return pandas.concat(tables, ignore_index=True)


def _shaped(options: ProbeOptions) -> Any:
    """Return the ellipses and rectangles to measure in, as shapes; None without any."""
    from spectrane.measuring import ellipse, rectangle
    from spectrane.spatial.shaped import one_set

    shapes = [
        ellipse(*one[:2], radii=one[2:4], turned=one[4] if len(one) > 4 else 0.0,
                name=f"ellipse {number}") for number, one in enumerate(options.ellipse, 1)
    ]  # fmt: skip
    shapes += [rectangle(one, name=f"rectangle {number}")
               for number, one in enumerate(options.rectangle, 1)]  # fmt: skip
    return one_set(shapes) if shapes else None


def _over_time(rasters: list[Any], points: Any, options: ProbeOptions) -> Any:
    """Return values of several dated files over time, and draw them where asked."""
    from spectrane.measuring import over_time

    options.refuse(["spectra", "keep_spectra"], "of several files")
    options.refuse(LOOK_ONLY - {"nodata_when"}, "with values by band: they are not shown")
    table = over_time(rasters, points, crs=options.points_crs)
    if options.profile:
        _draw_profile(table, options)
    table["time"] = table["time"].astype(str)
    return table


def _has_polygons(points: Any) -> bool:
    from spectrane.spatial.shapes import Shapes

    return isinstance(points, Shapes) and any(
        feature.geometry.get("type") != "Point" for feature in points.features)  # fmt: skip


def _by_band(raster: Any, table: Any, options: ProbeOptions, answer: Answer) -> None:
    """Draw, keep and rank values by band as asked."""
    from spectrane.analysis.spectra import Spectra

    inside = table[table["note"].isna()]
    zones = {name: zone["mean"].tolist() for name, zone in inside.groupby("zone", sort=False)}
    if options.profile:
        _draw_profile(inside, options)
    if options.keep_spectra:
        waves = [band.nominal_wavelength or math.nan for band in raster.bands]
        nominal = any(band.wavelength is None and band.nominal_wavelength for band in raster.bands)
        kept = Spectra(waves, {}, raster.bands[0].unit, nominal)
        unknown = [band.name for band in raster.bands if band.nominal_wavelength is None]
        if unknown:
            answer.warn(f"the wavelengths of {', '.join(unknown[:12])} are not known and kept as "
                        "nan; say them with: spectrane amend --wavelengths")  # fmt: skip
        for name, values in zones.items():
            kept.add(name, values)
        kept.save(options.keep_spectra, overwrite=options.overwrite)
    if options.spectra:
        known = Spectra.load(options.spectra)
        for name, values in zones.items():
            ranked = known.ranked(values)[:3]
            best = ", ".join(f"{one} {angle:.3f}" for one, angle in ranked)
            answer.add(
                {"zone": name,
                 "nearest": [{"spectrum": one, "angle": angle} for one, angle in ranked]},
                f"{name}: nearest are {best} (spectral angle)",
            )  # fmt: skip


def _draw_profile(table: Any, options: ProbeOptions) -> None:
    from spectrane.figures.paper import save_figure
    from spectrane.figures.profile import profile

    assert options.profile is not None
    save_figure(profile(table, size=options.size), options.profile, overwrite=options.overwrite)


def _tell(table: Any, outputs: list[str], options: ProbeOptions, answer: Answer) -> None:
    """Tell rows, or a table; what stands under points needs no pandas, which takes its time."""
    plain = isinstance(table, list)
    if options.csv:
        from pandas import DataFrame

        write_csv(DataFrame(table) if plain else table, options.csv, overwrite=options.overwrite)
    for row in table if plain else records(table):
        answer.add(row)
    shown = table[:MOST_LINES]
    answer.say(*(rows_text(shown) if plain else table_text(shown).splitlines()))
    if len(table) > MOST_LINES:
        answer.say(f"… and {len(table) - MOST_LINES} more rows; --json and --csv have all")
    for output in outputs:
        answer.add(file_facts(output), f"{output}: {size_text(output)}")
