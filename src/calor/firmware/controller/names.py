"""What the built-in law is called where a controller is chosen."""

BUILT_IN = "python"
