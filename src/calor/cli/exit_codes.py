"""What the command line ends with: all is well, a limit or check failed, the input was bad, Ctrl-C stopped
it, nobody read on; and what a shell sets."""

PASS, FAIL, BAD_INPUT, STOPPED, CLOSED = 0, 1, 2, 130, 141
COMPLETE = "_CALOR_COMPLETE"
"""What a shell sets to have words completed."""
