"""Everybody as arrays: who stands behind which names, found for all people at once, and who is alike.

`roll` is the directory in numbers, `behind` finds whom the names of a platform stand for, `lists` what both count with.
"""
