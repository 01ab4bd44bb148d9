"""Building and checking: from validated files to an estate whose names all exist."""
