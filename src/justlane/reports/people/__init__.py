"""Who is there, and what changed about them."""
