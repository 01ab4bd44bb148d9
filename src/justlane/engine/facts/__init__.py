"""What an answer starts from: people, groups, roles, places and bindings, made ready for questions."""
