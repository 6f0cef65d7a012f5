"""A load from a recorded run: what is compared, models, the fit, and what the record can tell."""
