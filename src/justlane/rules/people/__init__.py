"""People and groups: who is gone, who is there for ever, who holds too much."""
