"""The Board room: a board on the line, or its stand-in, read, recorded and told what to do."""
