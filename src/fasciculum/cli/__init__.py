"""The command line over the session. Imports nothing heavy until it knows what is asked."""
