"""The Journal room: kept runs found, looked at, compared, and taken back into the Loop room."""
