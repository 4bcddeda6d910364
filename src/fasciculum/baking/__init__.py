"""Source materials into maps: sampling, tangent frames, bleed, comparison. One file per kind of map."""
