"""Access classes: people whom no binding tells apart, and scopes that no binding tells apart.

`people_by_name` says for whom the names on a platform stand, and sorts people into classes; `scope_classes` sorts
scopes; `names` says which names tell people apart at a place; `judges` keeps one judge for each class.
"""
