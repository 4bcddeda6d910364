"""The parts of the page that shows a result: its frame, its style and the script that draws both sides."""
