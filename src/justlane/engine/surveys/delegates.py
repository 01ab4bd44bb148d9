"""Which files somebody may write, where parts of an estate were delegated."""

from __future__ import annotations

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.facts.membership import user
from justlane.engine.questions.administrators import administrators
from justlane.model.bindings import Delegation
from justlane.model.scopes import platform_of


def confined_to(index: EstateIndex, login: str | None, question: Question) -> tuple[Delegation, ...]:
    """The delegations to which somebody is held; none for whoever is no delegate, or administers fully all that was
    delegated to them."""
    if login is None or not index.estate.delegations or login not in index.estate.directory.users:
        return ()
    themselves = set(index.membership.principals_of(user(login)))
    own = tuple(delegation for delegation in index.estate.delegations if delegation.by in themselves)
    platforms = {platform_of(scope) for delegation in own for scope in delegation.scopes}
    said = [name for name in platforms if index.estate.platforms[name].administration]
    free = platforms and len(said) == len(platforms)
    return () if free and all(login in administrators(index, name, question).full for name in said) else own
