"""The open document: its history, what is stale, and the commands that change it. No window, no files of its own."""
