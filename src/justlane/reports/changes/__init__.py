"""What an edit, a revision or a run changes."""
