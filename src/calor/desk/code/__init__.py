"""The Code room: the C of the design, controller code of your own, what it costs, and whether all agree."""
