"""Objects over several sheets: what a division costs, and exchanges that make it cheaper."""
