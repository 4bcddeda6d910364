"""Texels: which triangle each shows, textures read with their mip levels, directions, encoding and dilation."""
