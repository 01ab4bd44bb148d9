"""Reading: YAML with lines and columns, the shapes of files, which files there are, their schemas."""
