"""The Tune room: what is tuned, rules side by side, a map, a search, and what can be done with a row."""
