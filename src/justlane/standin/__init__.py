"""Simulated platforms. They share no decision code with `engine`, so that the one checks the other."""
