"""The strip: runs over one time axis, with zoom, pan and calipers."""
