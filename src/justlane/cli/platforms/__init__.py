"""The commands that reach platforms, and the demo."""
