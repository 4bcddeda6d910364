"""The result against its source."""
