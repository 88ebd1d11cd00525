"""Layers for the web: one HTML page, KML and KMZ, map tiles. Nothing needs a network to be seen."""

from __future__ import annotations

from spectrane.pages.kml import read_kml, write_kml
from spectrane.pages.page import overlay_page
from spectrane.pages.tiles import tiles

kmz = write_kml

__all__ = ["kmz", "overlay_page", "read_kml", "tiles", "write_kml"]
