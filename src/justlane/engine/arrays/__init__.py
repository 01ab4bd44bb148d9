"""A directory and the scopes of a platform in numbers, and lists of numbers: what whole arrays are counted with.

Nothing is decided here, and no binding is known but by how far it reaches.
"""
