"""The people of an estate, as directories say who there is: taken in, put together, kept in snapshots, compared."""
