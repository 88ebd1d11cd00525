"""Catalogues of scenes: found by area, time and cloud, and opened as rasters."""
