"""An edit on its way into the files: looked at with all it does, saved as a whole, written down in the journal."""
