"""Fasciculum: many objects in, one texture set out."""

__version__ = "0.1.0"
