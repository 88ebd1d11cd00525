"""FITS 4.0: headers, images, tile-compressed images."""
