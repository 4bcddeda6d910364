"""One folder or file for each format."""
