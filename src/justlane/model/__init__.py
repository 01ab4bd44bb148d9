"""Storey 1: frozen values for users, groups, scopes, roles, bindings and habits; findings; errors.

Every value is a `msgspec.Struct`: immutable, slotted and complete at construction. Nothing here reads a
file, knows a terminal or decides anything.
"""
