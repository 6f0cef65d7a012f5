"""Kept runs: each with what reproduces it, its figures, a note; found, compared, exported, opened again."""
