"""The commands that ask an estate."""
