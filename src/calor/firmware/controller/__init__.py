"""What decides in a run: the built-in law, the generated C, or your own controller code, once it is allowed."""
