"""The model: the objects from any side, and the tools that shape their surfaces."""
