"""The compiled form of one platform: access classes and masks over actions, in NumPy, for questions about everybody.

`flat` is a platform as plain arrays, `classes` finds the users that no binding tells apart, `places` the scopes that bindings touch,
`counting` walks them. The table of users × scopes is never built.
"""
