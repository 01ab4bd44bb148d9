"""Arguments that several commands share. A shell completes them with the estate's own names."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common.options import folder_of
from justlane.directories.interface import read_people
from justlane.files.opening.index import open_index, open_people
from justlane.model.errors import JustLaneError

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

    from justlane.model.scopes import Scope

_MOST_PEOPLE, _MOST_SCOPES = 200, 500
Names = Callable[[Path, Mapping[str, object], str], Mapping[str, str]]
"""Names with their meaning: given the estate's folder, what was typed already, and how the name begins."""


def _completer(names: Names) -> Callable[..., list[CompletionItem]]:
    def complete(ctx: click.Context, param: click.Parameter, incomplete: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        folder = ctx.params.get("folder") or os.environ.get("JUSTLANE_ESTATE")
        try:
            found = names(folder_of(Path(folder) if folder else None), ctx.params, incomplete)
        except JustLaneError:
            return []
        return [
            CompletionItem(name, help=" ".join(meaning.split()))
            for name, meaning in found.items()
            if name.startswith(incomplete) and name.isprintable()
        ]

    return complete


def _users(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    return open_people(folder, read_people).store.beginning("users", beginning, _MOST_PEOPLE)


def _people(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    store = open_people(folder, read_people).store
    groups = store.beginning("groups", beginning, _MOST_PEOPLE)
    return {**groups, **store.beginning("users", beginning, _MOST_PEOPLE)}


def _scopes(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    """All scopes, or those of the platforms that have the action already typed."""
    action = given.get("action")
    return {
        address: scope.kind
        for platform in open_index(folder, read_people).estate.platforms.values()
        if action is None or action in platform.actions
        for address, scope in _beginning(platform.scopes, beginning)
    }


def _beginning(scopes: Mapping[str, Scope], beginning: str) -> Iterable[tuple[str, Scope]]:
    """Those whose address begins like that; of very many, some."""
    few = getattr(scopes, "beginning", None)  # a kept estate looks them up
    return few(beginning, _MOST_SCOPES) if few else scopes.items()


def _actions(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    platforms = open_index(folder, read_people).estate.platforms.values()
    return {action.name: action.meaning for platform in platforms for action in platform.actions.values()}


def _platforms(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    return {p.name: p.purpose for p in open_index(folder, read_people).estate.platforms.values()}


def _actions_and_scopes(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    return {**_actions(folder, given, beginning), **_scopes(folder, {}, beginning)}


def _roles(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    platforms = open_index(folder, read_people).estate.platforms.values()
    return {role.name: role.purpose for platform in platforms for role in platform.roles.values()}


def _actions_and_roles(folder: Path, given: Mapping[str, object], beginning: str) -> Mapping[str, str]:
    return {**_actions(folder, given, beginning), **_roles(folder, given, beginning)}


complete_users, complete_people = _completer(_users), _completer(_people)
complete_scopes, complete_roles = _completer(_scopes), _completer(_roles)
complete_actions = _completer(_actions)
user_argument = click.argument("user", shell_complete=_completer(_users))
person_or_group_argument = click.argument("name", required=False, shell_complete=_completer(_people))
action_argument = click.argument("action", shell_complete=_completer(_actions))
scope_argument = click.argument("scope", shell_complete=_completer(_scopes))
optional_scope_argument = click.argument("scope", required=False, shell_complete=_completer(_scopes))
platform_argument = click.argument("platform", shell_complete=_completer(_platforms))
known_name_argument = click.argument("name", shell_complete=_completer(_people))
action_or_scope_argument = click.argument("action", metavar="[ACTION]", shell_complete=_completer(_actions_and_scopes))
role_argument = click.argument("name", shell_complete=_completer(_roles))
action_or_role_argument = click.argument("name", required=False, shell_complete=_completer(_actions_and_roles))
