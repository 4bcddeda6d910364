"""One panel for each stage, shown in the right column."""
