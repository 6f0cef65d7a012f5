"""The Logs room: recorded runs, what is in them, and the load they tell."""

READ_AGAIN = "Read the record again"
"""The command by which a record is read as its files are now."""
