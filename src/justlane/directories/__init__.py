"""Storey 5: where people and groups come from. One file per protocol or format, behind one interface."""
