"""Storey 6: results as text, JSON, CSV and JUnit XML. Opens no file and decides nothing."""
