"""Everything at once, as tables."""
