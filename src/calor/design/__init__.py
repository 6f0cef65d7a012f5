"""The design: five blocks, limits and trials put together, checked, read from and written to TOML."""
