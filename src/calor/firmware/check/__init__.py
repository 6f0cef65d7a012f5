"""Whether the C agrees with the reference, and how far one way of computing is from another."""
