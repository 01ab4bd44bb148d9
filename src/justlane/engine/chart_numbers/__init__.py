"""Numbers that charts show: in how many hands something is, how large roles are, what flows where, and likeness."""
