"""Everywhere as arrays: the scopes of a platform in the order of a walk, and which of them nothing tells apart.

`terrain` is the tree in numbers, `kinds_of_places` the kinds.
"""
