"""The desk: the Qt application, and the only place that imports Qt."""
