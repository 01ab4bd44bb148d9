"""Storey 3: the estate's files. Reading with file, line and column; checking; keeping; writing safely; editing."""
