"""From files to a scene, and to bundles."""
