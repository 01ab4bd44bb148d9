"""The compiled form of one platform: access classes and masks over actions, in NumPy, for questions about everybody.

`flat` is a platform as plain arrays (`flattening` makes it from an estate), `classes` finds the users that no binding
tells apart, `places` and `regions` the scopes that bindings touch, `masks` decides by the platform's habit and
`counting` adds up. The table of users × scopes is never built.
"""
