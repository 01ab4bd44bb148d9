"""Lines and tables of text, with styles, as wide as the terminal; no result is known here."""
