"""Over everything at once: grids, tables, the sizes of groups, roles beside each other, places, administrators."""
