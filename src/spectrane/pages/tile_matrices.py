"""Sets of tile matrices (OGC 17-083r4), and what describes tiles in them: TileJSON and WMTS."""

from __future__ import annotations

import json
import math
import os
from typing import Literal
from xml.etree.ElementTree import Element
from xml.sax.saxutils import escape

from spectrane.kernels.records import record
from spectrane.model.grid import Bounds, Grid
from spectrane.model.longitudes import plain_degrees
from spectrane.model.whole_files import written_whole
from spectrane.model.xml_building import element, xml_document

TILE = 256
HALF = 20037508.342789244
"""Metres from the middle of web Mercator to its edges."""
Tile = tuple[int, int, int]
"""Zoom, column, row; rows count from the north."""


@record(frozen=True)
class Scheme:
    """A set of tile matrices: its name, system, bounds, and how many tiles zoom 0 has."""

    name: str
    crs: str
    bounds: Bounds
    across: int
    well_known: str

    def grid(self, tile: Tile) -> Grid:
        """Return the grid of one tile."""
        zoom, column, row = tile
        side = (self.bounds[2] - self.bounds[0]) / (self.across << zoom)
        return Grid.from_corner(
            (TILE, TILE), x=self.bounds[0] + column * side, y=self.bounds[3] - row * side,
            pixel_size=side / TILE, crs=self.crs,
        )  # fmt: skip

    def pixel(self, zoom: int) -> float:
        """Return the side of a pixel in units of the system."""
        return (self.bounds[2] - self.bounds[0]) / ((self.across * TILE) << zoom)


TileScheme = Literal["mercator", "geographic"]
SCHEMES: dict[TileScheme, Scheme] = {
    "mercator": Scheme("mercator", "EPSG:3857", (-HALF, -HALF, HALF, HALF), 1,
                       "WebMercatorQuad"),
    "geographic": Scheme("geographic", "EPSG:4326", (-180.0, -90.0, 180.0, 90.0), 2,
                         "WorldCRS84Quad"),
}  # fmt: skip


def write_documents(
    root: str, plan: Scheme, zooms: tuple[int, int], lonlat: Bounds, title: str, attribution: str
) -> None:
    """Write ``tiles.json`` and ``wmts.xml``; ``lonlat`` may run on beyond 180 degrees."""
    west, south, east, north = lonlat
    middle = plain_degrees((west + east) / 2)
    if east > 180:  # TileJSON 3.0.0: bounds must not wrap around the antimeridian
        west, east = -180.0, 180.0
    about = {
        "tilejson": "3.0.0", "name": title, "tiles": ["{z}/{x}/{y}.png"], "scheme": "xyz",
        "minzoom": zooms[0], "maxzoom": zooms[1], "bounds": [west, south, east, north],
        "center": [middle, (south + north) / 2, zooms[0]],
        "attribution": escape(attribution), "crs": plan.crs, "tileMatrixSet": plan.well_known,
    }  # fmt: skip
    if not attribution:
        del about["attribution"]
    for name, text in (("tiles.json", json.dumps(about, indent=1)),
                       ("wmts.xml", _capabilities(plan, zooms, lonlat, title))):  # fmt: skip
        with written_whole(os.path.join(root, name), overwrite=True) as file:
            file.write(text.encode())


def _capabilities(plan: Scheme, zooms: tuple[int, int], lonlat: Bounds, title: str) -> str:
    """Return WMTS 1.0.0 capabilities (OGC 07-057r7) for RESTful access beside the document."""
    # Scale denominators are for pixels of 0.28 mm; a degree is that of the ellipsoid's equator.
    metres = 1.0 if plan.name == "mercator" else 6378137.0 * math.pi / 180
    urn = "urn:ogc:def:crs:EPSG::3857" if metres == 1.0 else "urn:ogc:def:crs:OGC:1.3:CRS84"
    matrices = [_matrix(plan, zoom, metres) for zoom in range(zooms[0], zooms[1] + 1)]
    service = element(
        "ows:ServiceIdentification", element("ows:Title", title),
        element("ows:ServiceType", "OGC WMTS"), element("ows:ServiceTypeVersion", "1.0.0"),
    )  # fmt: skip
    link = element("TileMatrixSetLink", element("TileMatrixSet", plan.well_known))
    address = {"format": "image/png", "resourceType": "tile",
               "template": "{TileMatrix}/{TileCol}/{TileRow}.png"}  # fmt: skip
    layer = element(
        "Layer", element("ows:Title", title), *_boxes(lonlat),
        element("ows:Identifier", "layers"),
        element("Style", element("ows:Identifier", "default"), attributes={"isDefault": "true"}),
        element("Format", "image/png"), link, element("ResourceURL", attributes=address),
    )  # fmt: skip
    held = element("TileMatrixSet", element("ows:Identifier", plan.well_known),
                   element("ows:SupportedCRS", urn), *matrices)  # fmt: skip
    names = {"xmlns": "http://www.opengis.net/wmts/1.0", "version": "1.0.0",
             "xmlns:ows": "http://www.opengis.net/ows/1.1"}  # fmt: skip
    contents = element("Contents", layer, held)
    return xml_document(element("Capabilities", service, contents, attributes=names))


def _matrix(plan: Scheme, zoom: int, metres: float) -> Element:
    """Return one zoom's matrix; a pixel of the standard's screen is 0.28 mm wide."""
    down = plan.across << zoom if plan.name == "mercator" else 1 << zoom
    said = {
        "ows:Identifier": zoom, "ScaleDenominator": repr(plan.pixel(zoom) * metres / 0.00028),
        "TopLeftCorner": f"{plan.bounds[0]!r} {plan.bounds[3]!r}", "TileWidth": TILE,
        "TileHeight": TILE, "MatrixWidth": plan.across << zoom, "MatrixHeight": down,
    }  # fmt: skip
    return element("TileMatrix", *(element(name, str(value)) for name, value in said.items()))


def _boxes(lonlat: Bounds) -> list[Element]:
    """Return the bounding box, or two of them across the antimeridian, as WMTS allows."""
    west, south, east, north = lonlat
    sides = [(west, east)] if east <= 180 else [(west, 180.0), (-180.0, east - 360)]
    return [
        element("ows:WGS84BoundingBox", element("ows:LowerCorner", f"{first!r} {south!r}"),
                element("ows:UpperCorner", f"{last!r} {north!r}"))
        for first, last in sides
    ]  # fmt: skip
