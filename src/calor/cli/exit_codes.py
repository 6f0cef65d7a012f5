"""What the command line ends with: all is well, a limit or check failed, the input was bad; and what a shell sets."""

PASS, FAIL, BAD_INPUT = 0, 1, 2
COMPLETE = "_CALOR_COMPLETE"
"""What a shell sets to have words completed."""
