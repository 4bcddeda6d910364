"""Runs a named function in a worker process, with progress and cancel. Knows nothing of UVs."""
