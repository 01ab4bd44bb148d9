"""Storey 4: the way out of this machine. Which secret may go where, safe connections, answers within limits."""
