"""From a layout to maps."""
