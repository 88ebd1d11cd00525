"""Arrays with named dimensions, as the CF conventions describe them: netCDF-4, HDF5, Zarr."""
