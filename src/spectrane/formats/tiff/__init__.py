"""TIFF 6.0, BigTIFF and GeoTIFF 1.1 (OGC 19-008r4): reading by window, and streamed writing."""
