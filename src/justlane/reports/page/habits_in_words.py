"""A platform's habits in words, for whoever has never seen it."""

from __future__ import annotations

from collections.abc import Iterator

from justlane.model.estate import Binds, Decides, Platform, RolesHeld
from justlane.model.names import counted

_DECIDES = {
    Decides.ANY_ALLOW: "What any line gives is allowed; nothing can be denied.",
    Decides.DENY_WINS: "What a line gives is allowed, unless another line denies it.",
    Decides.LAST_MATCH: "Lines are in order, and the last one that matches decides.",
    Decides.NEAREST: "Of the places around, the nearest with a line for the person decides alone.",
}


def in_words(platform: Platform) -> Iterator[str]:
    """One sentence for each habit."""
    habits = platform.habits
    yield _DECIDES[habits.decides]
    if habits.open_role:
        yield f"A place where nobody is given anything is open: whoever may sign in holds {habits.open_role} there."
    else:
        yield "A place where nobody is given anything is closed."
    if habits.sign_in:
        yield f"To sign in takes {habits.sign_in} on all of {platform.name}; without it nothing else counts."
    if habits.on_the_way:
        yield f"To get to a place takes {habits.on_the_way} at each place that it is in."
    if habits.roles_held is RolesHeld.ONE_AT_A_TIME:
        yield "People act in one of their roles at a time; what is built in stays on beside it."
    else:
        yield "All roles of a person count together."
    if habits.binds is Binds.GROUPS:
        yield "Roles are given to groups only."
    if habits.publication:
        yield "A group counts only where it was published."
    if platform.ceilings:
        count = counted(len(platform.ceilings), "ceiling")
        verb = "is" if len(platform.ceilings) == 1 else "are"
        yield f"There {verb} {count}: actions that are never granted, whatever is given."
    if platform.administration and platform.administration.at_most is not None:
        yield f"At most {counted(platform.administration.at_most, 'person', 'people')} may administer it fully."
