"""The window: what stands around every room, and every command of the desk."""
