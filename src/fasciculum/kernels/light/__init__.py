"""Light: what emits it, paths of it, and gathering it at the texels of a sheet."""
