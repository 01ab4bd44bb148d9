"""A YAML text changed in place: nodes with their ends, values as text, a document."""
