"""The project file: its schema, writing it whole, reading it back. See docs/project-format.md."""
