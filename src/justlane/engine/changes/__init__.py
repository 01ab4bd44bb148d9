"""Changes: between two estates or two people, by an edit, and the edit that would turn an answer."""
