"""Another set of lines that gives exactly the same, of less weight: what groups, roles and places say already."""
