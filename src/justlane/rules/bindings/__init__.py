"""Lines that give or take away: those that change nothing, that do less than they say, or that are over."""
