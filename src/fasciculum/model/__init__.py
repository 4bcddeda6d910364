"""Immutable data: what there is. No algorithms beyond looking things up; nothing here opens a file."""
