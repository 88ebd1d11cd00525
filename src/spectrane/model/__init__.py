"""What a raster is: bands, grid, no-data, looks and views. Knows nothing of files or pictures."""
