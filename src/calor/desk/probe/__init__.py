"""The probe's room: curves, error budget, calibration, table and filter."""
