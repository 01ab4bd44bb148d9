"""Storey 5: platforms that are asked, changed and tried. One file per kind of interface, behind one small protocol."""
