"""From objects to islands, and from islands to places on a sheet."""
