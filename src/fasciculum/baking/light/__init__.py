"""Light that falls on surfaces: what shines and what it meets as tables, where texels are lit, passes, noise, seams."""
