"""Recorded runs: read, cleaned, made into a Trace."""
