"""Unwrapping: a surface is cut into charts that lie flat. What is kept, projected or packed is decided elsewhere."""
