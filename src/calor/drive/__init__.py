"""Drives: from the demand of the law to what is really switched, at the drive's own resolution."""
