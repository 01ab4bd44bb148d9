"""What could be taken out of an estate without changing anything: lines, roles, and the fewest lines that say the same.

`parts` cuts lines into what can be taken out alone, `needs` decides whether one changes anything, `spare` finds all
that do not and says why, `fewest` makes a choice of them that can go together, `alike_roles` compares roles.
"""
