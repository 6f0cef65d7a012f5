"""The C built and run: on this machine, and on emulated chips."""
