"""The open design with undo, runs, and what is remembered; no widget."""
