"""Roles: those that nobody needs, and those that nobody can explain."""
