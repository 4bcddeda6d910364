"""Islands into placements on a sheet. Knows triangles in the plane and texels, nothing of objects or files."""
