"""Deciding and explaining: yes, no or only if, in which circumstances, why, and what would turn a no."""
