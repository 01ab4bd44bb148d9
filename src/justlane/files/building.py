"""From validated files to the values of `model`, each with the line where it was declared."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from itertools import product

from justlane.files.declared import DeclaredFiles
from justlane.files.shapes import (
    BindingsFile,
    ConnectionShape,
    EstateFile,
    ExpectationsFile,
    ExpectationShape,
    PlatformFile,
    RolesFile,
    RoleShape,
    ScopeShape,
)
from justlane.files.yamltext import Text, Where
from justlane.model.bindings import Binding
from justlane.model.estate import Connection, Estate, Habits, Platform, SecretPlace
from justlane.model.expectations import (
    AnyExpectation,
    AtMostMay,
    Duty,
    NobodyMayBoth,
    OnlyGroupMay,
    UserMay,
    UserMayNot,
)
from justlane.model.people import Directory, Principal, PrincipalKind
from justlane.model.roles import Action, Pattern, Role
from justlane.model.scopes import PLATFORM_KIND, Gathered, Scope

FileWithBindings = EstateFile | PlatformFile | BindingsFile | ExpectationsFile
"""The kinds of file that may hold bindings and expectations."""


def build(declared: DeclaredFiles, root: EstateFile, directory: Directory) -> Estate:
    """Put an estate together. Names are not checked here; what stands twice keeps its first meaning, and says so."""
    platforms: dict[str, Platform] = {}
    for text, shape in declared.of(PlatformFile):
        if shape.platform in platforms:
            first = platforms[shape.platform].source
            message = f"the platform {shape.platform!r} is declared here a second time"
            text.wrong(
                "same-name-twice", text.source("platform"), message, f"it is declared at {first.line_address} already"
            )
        else:
            platforms[shape.platform] = _platform(text, shape)
    for name, role in _all_roles(declared, platforms):
        platforms[name].roles[role.name] = role
    return Estate(
        name=root.estate,
        purpose=root.purpose,
        time_zone=root.time_zone,
        directory=directory,
        platforms=platforms,
        bindings=tuple(binding for text, file in with_bindings(declared) for binding in _bindings(text, file)),
        expectations=tuple(e for text, file in with_bindings(declared) for e in _expectations(text, file)),
    )


def principal_of(text: str) -> Principal:
    """`group crew` -> the principal."""
    kind, _, name = text.partition(" ")
    return Principal(PrincipalKind(kind), name.strip())


def _platform(text: Text, shape: PlatformFile) -> Platform:
    root = Scope(shape.platform, PLATFORM_KIND, shape.purpose, text.source("platform"))
    scopes = {root.address: root}
    for scope in _scopes(text, shape.scopes, root.address, ("scopes",)):
        scopes[scope.address] = scope
    return Platform(
        name=shape.platform,
        purpose=shape.purpose,
        habits=Habits(**dict(shape.habits)),
        source=text.source("platform"),
        actions={
            name: Action(name, a.means, text.key("actions", name), a.implies, a.applies_to, a.sensitive)
            for name, a in shape.actions.items()
        },
        scopes=scopes,
        roles={},
        connection=_connection(text, shape.reached_by) if shape.reached_by else None,
    )


def _connection(text: Text, shape: ConnectionShape) -> Connection:
    kind, _, name = shape.token_from.partition(" ")
    secret = SecretPlace(kind, name.strip())
    return Connection(shape.connector, shape.url, secret, text.source("reached by", "connector"))


def _scopes(text: Text, shapes: Mapping[str, ScopeShape], above: str, where: Where) -> Iterator[Scope]:
    for name, shape in shapes.items():
        here: Where = (*where, name)
        yield Scope(
            address=f"{above}/{name}",
            kind=shape.kind,
            purpose=shape.purpose,
            source=text.key(*here),
            attributes=shape.has,
            gathers=tuple(
                Gathered(address, text.source(*here, "gathers", place)) for place, address in enumerate(shape.gathers)
            ),
        )
        yield from _scopes(text, shape.holds, f"{above}/{name}", (*here, "holds"))


def _all_roles(declared: DeclaredFiles, platforms: Mapping[str, Platform]) -> Iterator[tuple[str, Role]]:
    """Each role with the name of its platform, those of platform files first."""
    first: dict[tuple[str, str], Role] = {}
    places = [(text, s.platform, s.roles) for text, s in declared.of(PlatformFile)]
    places += [(text, s.roles_for, s.roles) for text, s in declared.of(RolesFile) if s.roles_for in platforms]
    for text, platform, roles in places:
        for name, shape in roles.items():
            role = _role(text, name, shape)
            if (platform, name) in first:
                at = first[platform, name].source.line_address
                message = f"the role {name!r} of {platform} is declared here a second time"
                text.wrong("same-name-twice", role.source, message, f"it is declared at {at} already")
            else:
                first[platform, name] = role
                yield platform, role


def _role(text: Text, name: str, shape: RoleShape) -> Role:
    def patterns(key: str, values: tuple[str, ...]) -> tuple[Pattern, ...]:
        return tuple(Pattern(v, text.source("roles", name, key, place)) for place, v in enumerate(values))

    return Role(
        name=name,
        purpose=shape.purpose,
        source=text.key("roles", name),
        allows=patterns("allows", shape.allows),
        excepts=patterns("excepts", shape.excepts),
        builds_on=patterns("builds on", shape.builds_on),
        owner=principal_of(shape.owner) if shape.owner else None,
        built_in=shape.built_in,
    )


def with_bindings(declared: DeclaredFiles) -> Iterator[tuple[Text, FileWithBindings]]:
    """The files that may hold bindings and expectations, the root first, then in the order of their names."""
    for file in declared.files:
        if isinstance(file.shape, FileWithBindings):
            yield file.text, file.shape


def _bindings(text: Text, file: FileWithBindings) -> Iterator[Binding]:
    for place, shape in enumerate(file.bindings):
        source = text.source("bindings", place)
        for role, principal, scope in product(shape.give, shape.to, shape.at):
            yield Binding(principal_of(principal), role, scope, shape.because, source)


def _expectations(text: Text, file: FileWithBindings) -> Iterator[AnyExpectation]:
    for place, shape in enumerate(file.expectations):
        yield _expectation(text, place, shape)


def _expectation(text: Text, place: int, shape: ExpectationShape) -> AnyExpectation:
    source, reason, duties = text.source("expectations", place), shape.because, duties_of(shape)
    if shape.only is not None:
        group = principal_of(shape.only).name
        return OnlyGroupMay(source=source, reason=reason, group=group, duties=duties)
    if shape.at_most is not None:
        return AtMostMay(source=source, reason=reason, limit=shape.at_most, duties=duties)
    if shape.user is None:
        return NobodyMayBoth(source=source, reason=reason, duties=duties)
    kind = UserMay if shape.may is not None else UserMayNot
    return kind(source=source, reason=reason, user=shape.user, duties=duties)


def duties_of(shape: ExpectationShape) -> tuple[Duty, ...]:
    """The actions of an expectation with their places."""
    actions = shape.may or shape.may_not or shape.nobody_may_both or ()
    scope = shape.at or shape.anywhere_in
    if scope is None:
        parted = (action.partition(" at ") for action in actions)
        return tuple(Duty(action.strip(), address.strip()) for action, _, address in parted)
    return tuple(Duty(action, scope, shape.anywhere_in is not None) for action in actions)
