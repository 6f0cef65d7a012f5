"""Benches: the settings of one block, made from their own descriptions."""
