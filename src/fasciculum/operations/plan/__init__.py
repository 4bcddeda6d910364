"""What goes together, which materials need texels and how many: every plan's cost, and those that no other beats."""
