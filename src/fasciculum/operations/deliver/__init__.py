"""From maps and meshes to files."""
