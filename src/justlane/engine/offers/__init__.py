"""What would give somebody something, or take it away: each change that does it, with all that it does besides."""
