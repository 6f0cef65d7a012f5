"""The report of a design or a kept run: pictures of a run, and one page that holds all that is known."""
