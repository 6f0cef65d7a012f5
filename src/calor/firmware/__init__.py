"""Firmware: C99 of a design's probe scaling, law, guards and drive, and running it on the host."""
