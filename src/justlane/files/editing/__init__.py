"""Editing: changes to an estate's own files."""
