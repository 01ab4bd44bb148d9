"""Storey 2, the heart: who may do what where, why, and why not.

Reads nothing, prints nothing. `index` prepares an estate; `deciding`, `explaining`, `reaching`, `holding`
and `expecting` answer from it.
"""
