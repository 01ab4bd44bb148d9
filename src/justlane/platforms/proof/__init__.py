"""Trying as the people: as whom, where, and what was found before."""
