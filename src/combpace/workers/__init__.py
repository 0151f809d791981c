"""Where long work is done: processes of this machine, or a Dask scheduler."""
