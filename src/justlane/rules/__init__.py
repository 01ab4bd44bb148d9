"""Storey 5: what is worth a warning in an estate whose files are sound. One module per rule."""
