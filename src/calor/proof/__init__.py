"""What passes once, tried over part tolerances and single faults: which runs, what came of them, what matters most."""
