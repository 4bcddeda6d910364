"""Textures as graphics cards hold them: compressed blocks, their mip levels, and the files that hold both."""
