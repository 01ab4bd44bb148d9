"""Keeping: what was read once and has not changed, and what the person allowed."""
