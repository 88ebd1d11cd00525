"""Many rasters as one: brought onto a grid, balanced, joined without a seam."""
