"""Unwrapping: half-edges, charts, cutting, flattening and joining them."""
