"""A board on a serial line: the protocol of lines, the link that reads and records it, and a stand-in for the board."""
