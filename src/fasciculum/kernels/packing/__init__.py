"""Packing: islands as polygons and as runs of texels, how deep they lie in one another, and moving them apart."""
