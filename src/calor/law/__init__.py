"""Laws: from a reading and a setpoint to a demand between 0 and 1 of full output."""
