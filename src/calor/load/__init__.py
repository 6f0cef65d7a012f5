"""Loads: the thing being heated or cooled."""
