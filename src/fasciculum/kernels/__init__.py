"""Compiled loops: arrays in, arrays out. Nothing here knows a model type, a file or a setting.

Every kernel is cached on disk. Arrays that come from documents are read-only and those made on the way are not;
Numba compiles each combination apart, so callers keep to one.
"""
