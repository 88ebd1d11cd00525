"""``spectrane probe``: values at positions, through every layer; and profiles."""

from __future__ import annotations

import contextlib
from typing import Any

import click

from spectrane.cli.common import (
    Numbers,
    Size,
    examples,
    print_table,
    refuse,
    refuse_others,
    shared_options,
    told_warnings,
)
from spectrane.cli.looks import computed, look_fields, look_for, look_options
from spectrane.model.whole_files import written_whole

_BY_BAND = ("positions", "pixels", "points", "points_crs", "layer", "profile", "csv_path",
            "spectra", "keep_spectra", "nodata", "nodata_when", "compute", "unit")  # fmt: skip
"""Options that a profile reads."""


@click.command("probe")
@click.argument("files", nargs=-1, required=True, metavar="FILE...")
@click.option("--at", "positions", multiple=True, type=Numbers(2, "X,Y[,Z]", most=3),
              help="A map position; X,Y,Z in mm for volumes.")  # fmt: skip
@click.option("--pixel-at", "pixels", multiple=True, type=Numbers(2, "ROW,COLUMN"),
              help="A pixel, from 0.")  # fmt: skip
@click.option("--voxel-at", "voxels", multiple=True, type=Numbers(3, "I,J,K"),
              help="A voxel of the first volume, from 0.")  # fmt: skip
@click.option("--points", type=click.Path(),
              help="GeoJSON, GeoPackage, or CSV (name, x, y, z or row, column).")  # fmt: skip
@click.option("--points-crs", help="The system of the positions, where it is not the raster's.")
@click.option("--layer", help="The layer of a GeoPackage with several.")
@click.option(
    "--profile",
    type=click.Path(),
    help="Values by band, or by frame of a volume, as a figure (.png).",
)
@click.option("--region", type=click.Path(),
              help="Instead of points: a volume that is not 0 where voxels count.")  # fmt: skip
@click.option("--csv", "csv_path", type=click.Path(), help="The table as CSV.")
@click.option("--spectra", type=click.Path(), help="Named spectra (.toml) to rank by nearness.")
@click.option("--keep-spectra", type=click.Path(), help="Keep the points' spectra (.toml).")
@look_options
@click.option("--size", type=Size(), default="1280x800", help="Pixels of the figure.")
@click.option("--overwrite", is_flag=True, help="Replace files that exist.")
@click.option("--json", "as_json", is_flag=True, help="Answer in JSON.")
@shared_options
@examples(
    "probe demo/sound_8band.tif demo/sound_thermal.tif --at 490000,7357000",
    "probe demo/sound_8band.tif --points demo/stations.csv --profile spectra.png",
    "probe demo/fetlock.nii.gz demo/fetlock_effect.nii.gz --at 12,0,9",
)
def command(files: tuple[str, ...], **options: Any) -> None:
    """Tell what stands under a point: stored number, physical value, shown level and colour.

    With --profile, or polygons in --points, values by band are drawn or tabled instead.
    """
    from spectrane.opening import open as open_any
    from spectrane.opening import probe, profile
    from spectrane.volume import Volume

    points = _points(options)
    fields = look_fields(options)
    with told_warnings(options["quiet"] or options["as_json"]), contextlib.ExitStack() as stack:
        opened = [stack.enter_context(open_any(file)) for file in files]
        if any(isinstance(one, Volume) for one in opened):
            refuse_others(("positions", "voxels", "points", "profile", "region", "csv_path",
                           *(["size"] if options["profile"] else [])),
                          "of volumes")  # fmt: skip
            _tell(_of_volumes(opened, points, options, stack), options)
            return
        if options["region"]:
            raise click.UsageError("--region is for volumes; rasters take polygons by --points")
        if any(len(at) == 3 for at in options["positions"]) or options["voxels"]:
            raise click.UsageError("three numbers are for volumes; rasters take --at X,Y")
        layers = []
        for raster in opened:
            raster = computed(raster, options, among=len(files))
            layers.append((raster, look_for(raster, options, fields)))
        by_band = options["profile"] or options["spectra"] or options["keep_spectra"]
        if not options["profile"]:
            refuse(["size"], "without --profile")
        if by_band or _has_polygons(points):
            if len(files) > 1:
                raise click.UsageError("values by band are of one file; say one")
            refuse_others((*_BY_BAND, *(["size"] if options["profile"] else [])),
                          "with values by band: they are not shown")  # fmt: skip
            table = profile(layers[0][0], points, crs=options["points_crs"])
            _profile(layers[0][0], table, options)
        else:
            table = probe(layers, points=points, crs=options["points_crs"])
        _tell(table, options)


def _points(options: dict[str, Any]) -> Any:
    listed: list[dict[str, Any]] = [
        dict(zip("xyz", at, strict=False)) for at in options["positions"]]  # fmt: skip
    listed += [{"row": int(row), "column": int(column)} for row, column in options["pixels"]]
    listed += [dict(zip("ijk", map(int, at), strict=True)) for at in options["voxels"]]
    if bool(listed) + bool(options["points"]) + bool(options["region"]) != 1:
        raise click.UsageError(
            "say where: --at X,Y, --pixel-at ROW,COLUMN, --voxel-at I,J,K, --points FILE, or "
            "--region FILE"
        )
    path = options["points"]
    if listed or path is None or path.lower().endswith(".csv"):
        if options["layer"]:
            raise click.UsageError("--layer is for --points FILE of a GeoPackage")
        return listed or path
    from spectrane.spatial.shapes import shapes_of

    return shapes_of(path, crs=options["points_crs"], layer=options["layer"], option="points_crs")


def _of_volumes(opened: list[Any], points: Any, options: dict[str, Any], stack: Any) -> Any:
    """Return what stands under points of volumes, or the profile by frame."""
    from spectrane.opening import open as open_any
    from spectrane.opening import probe, profile

    if not options["profile"] and not options["region"]:
        return probe(opened, points=points)
    region = stack.enter_context(open_any(options["region"])) if options["region"] else None
    table = profile(opened[0], points, region=region)
    if options["profile"]:
        _draw_profile(table, options)
    return table


def _has_polygons(points: Any) -> bool:
    from spectrane.spatial.shapes import Shapes

    return isinstance(points, Shapes) and any(
        feature.geometry.get("type") != "Point" for feature in points.features)  # fmt: skip


def _profile(raster: Any, table: Any, options: dict[str, Any]) -> None:
    from spectrane.analysis.spectra import Spectra

    inside = table[table["note"].isna()]
    zones = {name: zone["mean"].tolist() for name, zone in inside.groupby("zone", sort=False)}
    if options["profile"]:
        _draw_profile(inside, options)
    waves = [band.wavelength or float(k) for k, band in enumerate(raster.bands, 1)]
    if options["keep_spectra"]:
        kept = Spectra(waves, {}, raster.bands[0].unit)
        for name, values in zones.items():
            kept.add(name, values)
        kept.save(options["keep_spectra"], overwrite=options["overwrite"])
    if options["spectra"] and not options["quiet"]:
        known = Spectra.load(options["spectra"])
        for name, values in zones.items():
            best = ", ".join(f"{k} {angle:.3f}" for k, angle in known.ranked(values)[:3])
            click.echo(f"{name}: nearest are {best} (spectral angle)")


def _draw_profile(table: Any, options: dict[str, Any]) -> None:
    from spectrane.figures.paper import save
    from spectrane.figures.profile import profile

    figure = profile(table, size=options["size"])
    save(figure, options["profile"], overwrite=options["overwrite"])


def _tell(table: Any, options: dict[str, Any]) -> None:
    if options["csv_path"]:
        with written_whole(options["csv_path"], overwrite=options["overwrite"]) as file:
            file.write(table.to_csv(index=False).encode())
    if options["as_json"]:
        click.echo(table.to_json(orient="records"))
    elif not options["quiet"]:
        print_table(table)
