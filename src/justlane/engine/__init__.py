"""Storey 2, the heart: who may do what where, why, and why not.

Reads nothing, prints nothing. `facts` makes an estate ready, `decision` decides and explains, `questions` answers
all that is more than one cell, `compiled` counts whole platforms.
"""
