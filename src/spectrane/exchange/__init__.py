"""Hand-over to the array world: xarray, Dask, Matplotlib, vectors. Imported when called."""
