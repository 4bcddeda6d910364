"""Bytes to model and back. What is unsafe is refused here; nothing here computes with what it read."""
