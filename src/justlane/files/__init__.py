"""Storey 3: the estate's files. Reading with file, line and column; schemas; the cache; writing safely."""
