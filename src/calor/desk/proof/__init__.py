"""The Proof room: single faults and tolerances over every trial, and which of them the design stands."""
