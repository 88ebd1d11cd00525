"""Fourteen dated scenes of Halse Sound as a STAC catalogue, with cloud, masks and quick-looks.

Two miss the sound, and one is nearly all cloud. Each has its bands in files of their own, blue,
green and red at 30 m and near infrared at 60 m, and a mask of classes.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import numpy as np
from numpy.random import default_rng
from numpy.typing import NDArray

from spectrane.catalogs.areas import box_of
from spectrane.catalogs.footprints import valid_parts
from spectrane.catalogs.writing import item_document
from spectrane.demo.fields import Field, noise, smooth
from spectrane.demo.land import make_land
from spectrane.demo.spectra import BANDS, clear_view, under_cloud
from spectrane.display.render import draw_raster
from spectrane.engine.memory import ArraySource
from spectrane.formats.tiff.writer import write_tiff
from spectrane.kernels.records import record
from spectrane.model.band import Band
from spectrane.model.grid import Grid
from spectrane.model.look import Look

COLLECTION = "halse-sound"
_CRS = "EPSG:32727"
_SIDE, _COARSER = 30.0, 2
_USED = (0, 1, 2, 4)
"""Blue, green, red and near infrared, of the table of spectra."""
CLASSES = ({"value": 0, "name": "no_data", "description": "outside the swath", "nodata": True},
           {"value": 1, "name": "clear", "description": "clear ground or water"},
           {"value": 2, "name": "cloud", "description": "cloud"},
           {"value": 3, "name": "cloud_shadow", "description": "shadow of cloud"})  # fmt: skip


@record(frozen=True)
class Pass:
    """One pass: when, which part (metres east and north of the scene's corner), how cloudy
    (-1 clear to 1 overcast), how bright the sun.
    """

    date: str
    west: float
    south: float
    cloud: float
    light: float

    @property
    def name(self) -> str:
        """The scene's id."""
        return "halse_" + self.date[:10].replace("-", "")


_WIDE, _HIGH = 10800.0, 9600.0
PASSES = (
    Pass("2026-03-03T11:42:10Z", 0, 600, -0.10, 0.72),
    Pass("2026-03-19T11:41:52Z", 3900, 900, 0.35, 0.80),
    Pass("2026-04-04T11:42:07Z", 600, 300, 0.90, 0.88),
    Pass("2026-04-12T11:36:31Z", 0, 0, -0.55, 0.93),
    Pass("2026-04-20T11:42:01Z", 18000, 1200, -0.60, 0.95),
    Pass("2026-05-06T11:41:49Z", 4200, 600, -0.20, 1.0),
    Pass("2026-05-14T11:36:22Z", -3600, 900, -0.40, 1.0),
    Pass("2026-05-22T11:42:12Z", 300, 900, 0.10, 1.03),
    Pass("2026-06-07T11:41:58Z", 1500, 0, -0.45, 1.04),
    Pass("2026-06-23T11:42:03Z", 3600, 1200, 0.55, 1.04),
    Pass("2026-07-09T11:41:55Z", -900, -16800, -0.50, 1.02),
    Pass("2026-07-25T11:42:09Z", 0, 1200, 0.05, 0.98),
    Pass("2026-08-10T11:41:47Z", 900, 600, -0.30, 0.90),
    Pass("2026-08-26T11:42:05Z", 2400, 300, 0.25, 0.82),
)


def write_acquisitions(
    folder: Path, left: float, bottom: float, seed: int, *, scale: float = 1.0,
    overwrite: bool = False, told: Callable[[Path, str], None] = lambda path, what: None,
) -> list[Path]:  # fmt: skip
    """Write the catalogue below a folder and return the documents' paths.

    ``left`` and ``bottom`` are the scene's lower left corner on the map; ``scale`` makes pixels
    finer, as it does the demo's.
    """
    folder.mkdir(parents=True, exist_ok=True)
    items = []
    for number, one in enumerate(PASSES):
        home = folder / one.name
        home.mkdir(exist_ok=True)
        document = _write_scene(home, one, number, (left, bottom), seed, scale, overwrite)
        items.append(document)
        cloud = document["properties"]["eo:cloud_cover"]
        told(home / f"{one.name}.json", f"{one.date[:10]}, {cloud:.0f} % cloud")
    _write(folder / "collection.json", _collection(items), overwrite)
    _write(folder / "catalog.json", _catalog(), overwrite)
    told(folder / "catalog.json", "a catalogue of fourteen dated scenes")
    return [folder / "catalog.json", folder / "collection.json",
            *(folder / one.name / f"{one.name}.json" for one in PASSES)]  # fmt: skip


def _write_scene(
    home: Path, one: Pass, number: int, corner: tuple[float, float], seed: int, scale: float,
    overwrite: bool,
) -> dict[str, Any]:  # fmt: skip
    """Write a scene's files and its document, and return the document."""
    side = _SIDE / min(scale, 4.0) if scale > 1 else _SIDE / max(scale, 0.25)
    shape = (round(_HIGH / side) // 2 * 2, round(_WIDE / side) // 2 * 2)
    grid = Grid.from_corner(shape, x=corner[0] + one.west, y=corner[1] + one.south + _HIGH,
                            pixel_size=(_WIDE / shape[1], _HIGH / shape[0]), crs=_CRS)  # fmt: skip
    numbers, classes = _pixels(one, number, shape, seed)
    assets: dict[str, Any] = {}
    for values, index in zip(numbers, _USED, strict=True):
        known = BANDS[index]
        role = str(known.role)
        coarse = role == "nir"
        stored = _coarser(values, classes) if coarse else values
        band = Band(role, role, known.wavelength, "1", 1e-4, nodata=0)
        place = grid.resized(stored.shape) if coarse else grid
        source = ArraySource(stored[np.newaxis], grid=place, bands=[band])
        assets[role] = _asset(source, home, f"{one.name}_{role}.tif", overwrite)
    mask = ArraySource(classes[np.newaxis], grid=grid,
                       bands=[Band("class", description="what each pixel is", nodata=0)],
                       look=Look(classes=_COLORS))  # fmt: skip
    assets["classes"] = _asset(mask, home, f"{one.name}_classes.tif", overwrite) | {
        "roles": ["classification", "cloud", "cloud-shadow"],
        "classification:classes": list(CLASSES),
    }  # fmt: skip
    natural = [Band(name, name, nodata=0) for name in ("red", "green", "blue")]
    shown = ArraySource(np.stack(numbers[2::-1]), grid=grid, bands=natural)
    look = Look(channels="natural", limits="fixed:200,3200", curve="gamma:1.5")
    draw_raster(shown, look, size=(160, 180)).save(home / "quicklook.png", overwrite=overwrite)
    assets["quicklook"] = {"href": "./quicklook.png", "type": "image/png", "roles": ["thumbnail"]}
    inside = classes > 0
    document = item_document(mask, f"{one.name}.tif", parts=valid_parts(mask))
    document |= {
        "id": one.name, "collection": COLLECTION,
        "assets": assets, "links": [
            {"rel": "self", "href": f"./{one.name}.json"},
            {"rel": "root", "href": "../catalog.json"},
            {"rel": "parent", "href": "../collection.json"},
            {"rel": "collection", "href": "../collection.json"},
        ],
        "properties": {
            "datetime": one.date, "platform": "sound-watch", "gsd": _SIDE, "proj:code": _CRS,
            "eo:cloud_cover": round(float(100 * (classes == 2).sum() / inside.sum()), 1),
        },
    }  # fmt: skip
    document["stac_extensions"].append(
        "https://stac-extensions.github.io/classification/v2.0.0/schema.json"
    )
    _write(home / f"{one.name}.json", document, overwrite)
    return document


_COLORS = {1.0: ("#6fae7a", "clear"), 2.0: ("#f2f2f2", "cloud"), 3.0: ("#3b4252", "cloud shadow")}


def _pixels(
    one: Pass, number: int, shape: tuple[int, int], seed: int
) -> tuple[list[NDArray[np.uint16]], NDArray[np.uint8]]:
    """Return the numbers of each band, and the class of every pixel."""
    x = (one.west + (np.arange(shape[1], dtype=np.float32) + 0.5) * _WIDE / shape[1])[np.newaxis]
    y = one.south + _HIGH - (np.arange(shape[0], dtype=np.float32) + 0.5) * _HIGH / shape[0]
    y = y[:, np.newaxis]
    land = make_land(x, y)
    cloud, shadow = (_clouds(one, number, x + dx, y + dy) for dx, dy in ((0, 0), (520, -430)))
    outside = np.broadcast_to(x - one.west < 0.04 * (y - one.south), shape)
    random = default_rng(seed + 31 * number)
    found = []
    for seen, band in zip(clear_view(land, x, y, _USED), _USED, strict=True):
        lit = under_cloud(seen, cloud, 0.8 * shadow, band) * one.light
        stored = np.clip(lit * 10000 + random.normal(0, 12, shape), 1, 20000)
        found.append(np.where(outside, 0, stored).astype(np.uint16))
    classes = np.where(cloud > 0.35, 2, np.where(shadow > 0.35, 3, 1)).astype(np.uint8)
    classes[outside] = 0
    return found, classes


def _clouds(one: Pass, number: int, x: Field, y: Field) -> Field:
    """Return how much cloud stands over each position, 0…1."""
    field = noise(x, y, 4200, 401 + 13 * number, 5) + np.float32(one.cloud * 1.2 - 0.2)
    return smooth(0.0, 0.5, field) * np.float32(0.96)


def _coarser(values: NDArray[np.uint16], classes: NDArray[np.uint8]) -> NDArray[np.uint16]:
    """Return means of 2 x 2 pixels, those of the swath alone."""
    rows, columns = (side // _COARSER for side in values.shape)
    blocks = values.reshape(rows, _COARSER, columns, _COARSER).astype(np.float64)
    inside = (classes > 0).reshape(blocks.shape)
    count = inside.sum(axis=(1, 3))
    mean = (blocks * inside).sum(axis=(1, 3)) / np.maximum(count, 1)
    return np.where(count >= 2, np.clip(np.rint(mean), 1, 65535), 0).astype(np.uint16)


def _asset(source: ArraySource, home: Path, name: str, overwrite: bool) -> dict[str, Any]:
    write_tiff(source, home / name, overwrite=overwrite)
    asset: dict[str, Any] = item_document(source, f"./{name}")["assets"]["data"]
    return asset | {"type": "image/tiff; application=geotiff"}


def _collection(items: list[dict[str, Any]]) -> dict[str, Any]:
    boxes = [one["bbox"] for one in items]
    around = [min(box[0] for box in boxes), min(box[1] for box in boxes),
              max(box[2] for box in boxes), max(box[3] for box in boxes)]  # fmt: skip
    dates = sorted(one["properties"]["datetime"] for one in items)
    return {
        "type": "Collection", "stac_version": "1.1.0", "id": COLLECTION,
        "title": "Halse Sound, dated scenes", "license": "CC0-1.0",
        "description": "An invented inlet, seen by an invented sensor.",
        "extent": {"spatial": {"bbox": [around]},
                   "temporal": {"interval": [[dates[0], dates[-1]]]}},
        "links": [
            {"rel": "self", "href": "./collection.json"},
            {"rel": "root", "href": "./catalog.json"}, {"rel": "parent", "href": "./catalog.json"},
            *({"rel": "item", "href": f"./{one['id']}/{one['id']}.json"} for one in items),
        ],
    }  # fmt: skip


def _catalog() -> dict[str, Any]:
    return {
        "type": "Catalog", "stac_version": "1.1.0", "id": "acquisitions",
        "description": "Dated scenes of Halse Sound.",
        "links": [{"rel": "self", "href": "./catalog.json"},
                  {"rel": "root", "href": "./catalog.json"},
                  {"rel": "child", "href": "./collection.json"}],
    }  # fmt: skip


def _write(path: Path, document: dict[str, Any], overwrite: bool) -> None:
    from spectrane.model.whole_files import written_whole

    with written_whole(path, overwrite=overwrite) as file:
        file.write(json.dumps(document, indent=1).encode())


def documents_in(folder: Path) -> Iterator[dict[str, Any]]:
    """Yield the items' documents, with their boxes, in the order of the passes."""
    for one in PASSES:
        document = json.loads((folder / one.name / f"{one.name}.json").read_text(encoding="utf-8"))
        yield document | {"bbox": box_of(document["geometry"])}
