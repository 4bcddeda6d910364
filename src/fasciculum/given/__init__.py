"""Given sheets: textures that exist, with trims and cells marked on them, what lies where, and finding these."""
