"""The Logs room: recorded runs, what is in them, and the load they tell."""
