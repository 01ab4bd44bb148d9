"""From validated files to platforms and to the whole estate, each thing with the line where it was declared."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from justlane.files.building.accounts import accounts_of
from justlane.files.building.bindings import (
    bindings_of,
    break_glass_ceilings,
    break_glass_of,
    bundles_of,
    ceilings_of,
    expectations_of,
    principal_of,
    situations_of,
)
from justlane.files.building.delegation import delegations_of
from justlane.files.building.gathered import gathered_addresses, may_be_gathered
from justlane.files.building.lookup import is_time_zone
from justlane.files.building.places import DeclaredPlaces
from justlane.files.reading.connection_shape import ConnectionShape, ManagesShape
from justlane.files.reading.estate_files import DeclaredFiles
from justlane.files.reading.shapes import (
    AdministrationShape,
    EstateFile,
    HabitsShape,
    PlatformFile,
    RolesFile,
    RoleShape,
    ScopeShape,
)
from justlane.files.reading.yamltext import Text, Where
from justlane.model.bindings import Ceiling, Publication
from justlane.model.circumstances import span_of
from justlane.model.estate import (
    Administration,
    Connection,
    Estate,
    Habits,
    Managed,
    Platform,
    SamePerson,
    SecretPlace,
    Setting,
)
from justlane.model.findings import Severity
from justlane.model.patterns import ANY
from justlane.model.people import Directory, LocalGroup, LocalMember
from justlane.model.roles import Action, Pattern, Role
from justlane.model.rules import NONE, Accepted, RuleSetting
from justlane.model.scopes import PLATFORM_KIND, Gathered, Scope, platform_of


def build(declared: DeclaredFiles, root: EstateFile, directory: Directory) -> Estate:
    """Put an estate together. Names are not checked here; what stands twice keeps its first meaning, and says so."""
    platforms: dict[str, Platform] = {}
    break_glass = break_glass_of(declared)
    for text, shape in declared.of(PlatformFile):
        if shape.platform in platforms:
            first = platforms[shape.platform].source
            message = f"the platform {shape.platform!r} is declared here a second time"
            text.wrong(
                "same-name-twice", text.source("platform"), message, f"it is declared at {first.line_address} already"
            )
        else:
            platforms[shape.platform] = platform_in(text, shape, break_glass_ceilings(break_glass))
    for name, role in _all_roles(declared, platforms):
        platforms[name].roles[role.name] = role
    places = DeclaredPlaces({name: platform.scopes for name, platform in platforms.items()})
    return Estate(
        name=root.estate,
        purpose=root.purpose,
        time_zone=zone_of(root),
        directory=directory,
        platforms=platforms,
        bindings=bindings_of(declared, places, bundles_of(declared)),
        expectations=expectations_of(declared),
        situations=situations_of(declared, zone_of(root)),
        pull_every=seconds(root.people.pull_every),
        break_glass=break_glass,
        delegations=delegations_of(declared),
        same_person=tuple(
            SamePerson(some, declared.files[0].text.source("people", "same person", n))
            for n, some in enumerate(root.people.same_person)
        ),
        acting_as=root.acting_as,
        owners={group.partition(" ")[2].strip(): principal_of(by) for group, by in root.owners.items()},
        rules=_rules(declared.files[0].text, root),
        accepted=_accepted(declared.files[0].text, root),
        bundles={
            name: frozenset(platform_of(scope) for _, scope in pairs) for name, pairs in bundles_of(declared).items()
        },
    )


def _rules(text: Text, root: EstateFile) -> dict[str, RuleSetting]:
    found: dict[str, RuleSetting] = {}
    for rule, shape in root.findings.items():
        severity = Severity(shape.severity) if shape.severity not in (None, NONE) else None
        options = dict(shape.__pydantic_extra__)
        lines = {name: text.key("findings", rule, name) for name in options}
        source = text.key("findings", rule)
        found[rule] = RuleSetting(rule, severity, shape.severity != NONE, options, source, lines)
    return found


def _accepted(text: Text, root: EstateFile) -> tuple[Accepted, ...]:
    return tuple(
        Accepted(shape.finding, shape.about, shape.because, shape.last_day, text.source("accepted", place))
        for place, shape in enumerate(root.accepted)
    )


def seconds(span: str) -> int:
    """A span such as `12 hours`, in seconds."""
    return 60 * span_of(span)


def zone_of(root: EstateFile) -> str:
    """The estate's time zone, or UTC while the one it names does not exist."""
    return root.time_zone if is_time_zone(root.time_zone) else "UTC"


def platform_in(text: Text, shape: PlatformFile, everywhere: tuple[Ceiling, ...]) -> Platform:
    """The platform that a file declares, without its roles."""
    owner = principal_of(shape.owner) if shape.owner else None
    said = text.source("owner") if owner else None
    root = Scope(shape.platform, PLATFORM_KIND, shape.purpose, text.source("platform"), owner=owner, owner_source=said)
    scopes = {root.address: root}
    for address, here, scope in _walk(shape.scopes, root.address, ("scopes",)):
        scopes[address] = _scope(text, address, here, scope)
    return Platform(
        name=shape.platform,
        purpose=shape.purpose,
        habits=_habits(text, shape.habits),
        source=text.source("platform"),
        actions={
            name: Action(
                name,
                a.means,
                text.key("actions", name),
                _patterns(text, a.implies, "actions", name, "implies"),
                a.applies_to,
                a.sensitive,
                a.harmless,
            )
            for name, a in shape.actions.items()
        },
        scopes=_gathering(text, shape.scopes, scopes),
        roles={},
        connection=_connection(text, shape.reached_by) if shape.reached_by else None,
        local_groups=_local_groups(text, shape),
        publications=tuple(
            Publication(item.group, scope, text.source("published", place))
            for place, item in enumerate(shape.published)
            for scope in item.to
        ),
        ceilings=(*ceilings_of(text, shape), *everywhere),
        administration=_administration(text, shape.administration) if shape.administration else None,
        settings=tuple(_settings(text, shape)),
        manages=_managed(text, shape.manages, scopes) if shape.manages else None,
        accounts=accounts_of(text, shape.accounts) if shape.accounts else None,
    )


def _managed(text: Text, shape: ManagesShape, scopes: Mapping[str, Scope]) -> Managed:
    known = DeclaredPlaces({next(iter(scopes)): scopes})
    places = (
        address
        for n, said in enumerate(shape.places)
        for address in known.meant(said.rstrip("/"), text, text.source("manages", "places", n))
    )
    return Managed(tuple(dict.fromkeys(places)), shape.roles, shape.accounts, text.key("manages"))


def _settings(text: Text, shape: PlatformFile) -> Iterator[Setting]:
    for place, item in enumerate(shape.settings):
        for number, to in enumerate(item.to):
            source = text.source("settings", place, "to", number)
            for name, value in item.brings.items():
                yield Setting(principal_of(to), name, str(value), item.kept, source)


def _administration(text: Text, shape: AdministrationShape) -> Administration:
    return Administration(
        _patterns(text, shape.actions, "administration", "actions"), shape.at_most, text.key("administration")
    )


def _habits(text: Text, shape: HabitsShape) -> Habits:
    keys = ("unbound", "sign-in", "on the way")
    return Habits(
        lines={key: text.key("habits", key) for key in keys if ("habits", key) in text.values},
        decides=shape.decides,
        open_role=shape.unbound.removeprefix("closed").removeprefix("open with "),
        sign_in=shape.sign_in,
        on_the_way=shape.on_the_way,
        roles_held=shape.roles_held,
        binds=shape.binds,
        publication=shape.publication == "needed",
    )


def _local_groups(text: Text, shape: PlatformFile) -> dict[str, LocalGroup]:
    found: dict[str, LocalGroup] = {}
    for name, group in shape.local_groups.items():
        members = tuple(
            LocalMember(
                principal_of(member.member),
                text.source("local groups", name, "holds", place),
                member.because,
                member.last_day,
            )
            for place, member in enumerate(group.holds)
        )
        found[name] = LocalGroup(name, group.purpose, members, text.key("local groups", name))
    return found


def _gathering(text: Text, shapes: Mapping[str, ScopeShape], scopes: dict[str, Scope]) -> dict[str, Scope]:
    """The scopes, with what resource groups gather by a condition."""
    found = dict(scopes)
    places = DeclaredPlaces({next(iter(scopes)): scopes})
    for address, where, shape in _walk(shapes, next(iter(scopes)), ("scopes",)):
        if any(ANY in item.address for item in found[address].gathers):
            gathers = tuple(_meant(text, found[address], scopes, places))
            found[address] = msgspec.structs.replace(found[address], gathers=gathers)
        if shape.gathers_where is not None:
            source = text.key(*where, "gathers where")
            listed = {item.address for item in found[address].gathers}
            more = [a for a in gathered_addresses(shape.gathers_where, address, scopes.values()) if a not in listed]
            gathers = (*found[address].gathers, *(Gathered(a, source) for a in more))
            found[address] = msgspec.structs.replace(found[address], gathers=gathers)
    return found


def _meant(text: Text, group: Scope, scopes: Mapping[str, Scope], places: DeclaredPlaces) -> Iterator[Gathered]:
    """What a resource group gathers, patterns written out, each scope once."""
    seen: set[str] = set()
    for item in group.gathers:
        for address in places.meant(item.address, text, item.source):
            by_pattern = address != item.address
            if address not in seen and not (by_pattern and not may_be_gathered(scopes[address], group.address)):
                seen.add(address)
                yield Gathered(address, item.source)


def _walk(shapes: Mapping[str, ScopeShape], above: str, where: Where) -> Iterator[tuple[str, Where, ScopeShape]]:
    """Every scope's shape with its address and its place in the file, from the top down."""
    for name, shape in shapes.items():
        yield f"{above}/{name}", (*where, name), shape
        yield from _walk(shape.holds, f"{above}/{name}", (*where, name, "holds"))


def _connection(text: Text, shape: ConnectionShape) -> Connection:
    token = SecretPlace.of(shape.token_from) if shape.token_from else None
    source = text.source("reached by", "connector")
    keys = {"account": shape.account, "file": shape.file, "repository": shape.repository, "folder": shape.folder}
    keys |= {"scratch": shape.scratch}
    passwords = SecretPlace.of(shape.passwords_from) if shape.passwords_from else None
    return Connection(
        shape.connector,
        shape.url,
        token,
        source,
        shape.trust,
        {key: value for key, value in keys.items() if value},
        passwords,
        tuple(shape.leave_alone),
        dict(shape.columns),
        dict(shape.options),
    )


def _scope(text: Text, address: str, here: Where, shape: ScopeShape) -> Scope:
    gathers = tuple(Gathered(item, text.source(*here, "gathers", place)) for place, item in enumerate(shape.gathers))
    owner = principal_of(shape.owner) if shape.owner else None
    said = text.source(*here, "owner") if owner else None
    return Scope(address, shape.kind, shape.purpose, text.key(*here), shape.has, gathers, owner, said)


def _all_roles(declared: DeclaredFiles, platforms: Mapping[str, Platform]) -> Iterator[tuple[str, Role]]:
    """Each role with the name of its platform, those of platform files first."""
    first: dict[tuple[str, str], Role] = {}
    places: list[tuple[Text, str, PlatformFile | RolesFile]]
    places = [(text, s.platform, s) for text, s in declared.of(PlatformFile)]
    places += [(text, s.roles_for, s) for text, s in declared.of(RolesFile) if s.roles_for in platforms]
    for text, platform, shape in places:
        for role in roles_in(text, shape):
            if (platform, role.name) in first:
                at = first[platform, role.name].source.line_address
                message = f"the role {role.name!r} of {platform} is declared here a second time"
                text.wrong("same-name-twice", role.source, message, f"it is declared at {at} already")
            else:
                first[platform, role.name] = role
                yield platform, role


def roles_in(text: Text, shape: PlatformFile | RolesFile) -> Iterator[Role]:
    """The roles that a file declares."""
    return (_role(text, name, role) for name, role in shape.roles.items())


def _role(text: Text, name: str, shape: RoleShape) -> Role:
    at = ("roles", name)
    return Role(
        name=name,
        purpose=shape.purpose,
        source=text.key("roles", name),
        allows=_patterns(text, shape.allows, *at, "allows"),
        excepts=_patterns(text, shape.excepts, *at, "excepts"),
        builds_on=_patterns(text, shape.builds_on, *at, "builds on"),
        owner=principal_of(shape.owner) if shape.owner else None,
        built_in=shape.built_in,
        kinds=shape.kinds,
        copied_from=shape.copied_from,
        owner_source=text.source(*at, "owner") if shape.owner else None,
        ships_with=_patterns(text, shape.ships_with, *at, "ships with"),
    )


def _patterns(text: Text, values: tuple[str, ...], *where: str) -> tuple[Pattern, ...]:
    return tuple(Pattern(value, text.source(*where, place)) for place, value in enumerate(values))
