"""Fields, charts, type and colours; they know no design."""
