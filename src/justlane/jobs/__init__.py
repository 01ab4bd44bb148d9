"""Storey 8: whole jobs, from a folder to a result, that commands and other programs share; no Click, no terminal."""
