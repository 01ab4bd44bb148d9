"""Bindings, bundles, situations and expectations: everything that they name must exist and make sense."""

from __future__ import annotations

from ipaddress import ip_address

from justlane.files.building.accounts import account_checked
from justlane.files.building.bindings import BUNDLE, Bundles, bundles_of, duties_of, principal_of, role_at
from justlane.files.building.delegation import check_delegations, check_heads
from justlane.files.building.lookup import FormerName, Found, Lookup, error, is_time_zone, no_time_zone
from justlane.files.building.platform_checks import check_platforms
from justlane.files.reading.estate_files import DeclaredFiles
from justlane.files.reading.shapes import BindingShape, ExpectationShape, FileWithBindings, RolesFile
from justlane.files.reading.yamltext import Text
from justlane.model.estate import Binds, Decides, Estate
from justlane.model.expectations import Duty, Extent
from justlane.model.findings import Finding, Severity, Source, has_errors
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of


def check_names(estate: Estate, declared: DeclaredFiles, former: FormerName) -> list[Finding]:
    """Everything that is named and does not exist, and what is declared so that it cannot work."""
    lookup = Lookup(estate, declared, former)
    found: list[Finding] = []
    if declared.root is not None and not is_time_zone(declared.root.time_zone):
        found.append(no_time_zone(declared.root.time_zone, declared.files[0].text.source("time zone")))
    for text, file in declared.of(RolesFile):
        found += lookup.name(file.roles_for, estate.platforms, "platform", text.source("roles for"))
    found += check_platforms(estate, declared, former, estate.platforms)
    if estate.acting_as and declared.root is not None:
        source = declared.files[0].text.source("acting as")
        found += lookup.name(estate.acting_as, estate.directory.users, "user", source)
    found += _same_person(lookup)
    if estate.owners:
        text = declared.files[0].text
        for group, owner in estate.owners.items():
            key = ("owners", f"group {group}")
            found += lookup.principal(Principal(PrincipalKind.GROUP, group), text.key(*key))
            found += lookup.principal(owner, text.source(*key))
    found += check_heads(lookup, declared)
    if not has_errors(found):  # roles and places are what they seem
        found += check_delegations(lookup, declared)
    for account in estate.break_glass:
        found += lookup.principal(account.account, account.source)
        found += [wrong for network in account.networks for wrong in lookup.network(network, account.source)]
    return [*found, *check_bindings(estate, declared, bundles_of(declared), former)]


def _same_person(lookup: Lookup) -> Found:
    """Logins of one person are known, more than one, and nobody else's too."""
    seen: dict[str, Source] = {}
    for one in lookup.estate.same_person:
        if len(one.logins) < 2:
            yield error("wrong-value", one.source, "one login alone is one person anyhow", "name the others, too")
        for login in one.logins:
            yield from lookup.name(login, lookup.estate.directory.users, "user", one.source)
            if login in seen:
                message = f"{login} is said to be one person with others at {seen[login].line_address} already"
                yield error("wrong-value", one.source, message, "put all logins of a person into one list")
            seen[login] = one.source


def check_bindings(estate: Estate, declared: DeclaredFiles, bundles: Bundles, former: FormerName) -> list[Finding]:
    """The same of bindings, bundles, situations and expectations; the estate may have more of them than are declared
    here, and the bundles are all that it has."""
    lookup = Lookup(estate, declared, former)
    found: list[Finding] = []
    meant = {b.pattern for b in estate.bindings}
    for text, file_with_bindings in declared.of(FileWithBindings):
        found += _bundles(lookup, text, file_with_bindings)
        found += _situations(text, file_with_bindings)
        for place, binding in enumerate(file_with_bindings.bindings):
            found += _binding(lookup, bundles, meant, text, place, binding)
        for place, expectation in enumerate(file_with_bindings.expectations):
            found += _expectation(lookup, text, place, expectation)
    return [*found, *_twice(estate), *_one_list(estate)]


def _bundles(lookup: Lookup, text: Text, file: FileWithBindings) -> Found:
    for name, shape in file.bundles.items():
        for place, pair in enumerate(shape.holds):
            source = text.source("bundles", name, "holds", place)
            role, address = role_at(pair)
            yield from lookup.scope(address, source)
            yield from lookup.role(role, address, source)


def _situations(text: Text, file: FileWithBindings) -> Found:
    for name, shape in file.situations.items():
        try:
            ip_address(shape.address or "192.0.2.1")
        except ValueError:
            source = text.source("situations", name, "address")
            message = f"found {shape.address!r}, expected an IP address"
            yield error("wrong-value", source, message, "write one address, such as 192.0.2.7")


def _binding(lookup: Lookup, bundles: Bundles, meant: set[str], text: Text, place: int, shape: BindingShape) -> Found:
    key = "give" if shape.give else "deny"
    named = [role.removeprefix(BUNDLE).strip() for role in shape.give or shape.deny if role.startswith(BUNDLE)]
    places = (*shape.at, *(scope for bundle in named for _, scope in bundles.get(bundle, ())))
    for j, principal in enumerate(shape.to):
        yield from _to(lookup, principal_of(principal), places, text.source("bindings", place, "to", j))
    for j, address in enumerate(shape.at):
        if address not in meant:
            yield from lookup.scope(address, text.source("bindings", place, "at", j))
    for platform in dict.fromkeys(map(platform_of, places)):
        yield from _deny(lookup, shape, platform, text.source("bindings", place, key))
    for j, role in enumerate(shape.give or shape.deny):
        source = text.source("bindings", place, key, j)
        if role.startswith(BUNDLE):
            yield from lookup.name(role.removeprefix(BUNDLE).strip(), bundles, "bundle", source)
        for platform in dict.fromkeys(map(platform_of, shape.at)):
            yield from lookup.role(role, platform, source)
    if shape.account:
        at = text.source("bindings", place, "as account")
        known = lookup.estate.platforms
        for declared in (known[name] for name in dict.fromkeys(map(platform_of, places)) if name in known):
            for principal in shape.to:
                yield from account_checked(declared, shape.account, principal_of(principal), at)
    yield from lookup.when(text, ("bindings", place, "when"), shape.when)
    if shape.first_day and shape.last_day and shape.first_day > shape.last_day:
        source = text.source("bindings", place, "until")
        yield error("wrong-value", source, f"it ends on {shape.last_day}, before it begins", "swap the two days")


def _to(lookup: Lookup, principal: Principal, addresses: tuple[str, ...], source: Source) -> Found:
    yield from lookup.principal(principal, source)
    for platform in dict.fromkeys(map(platform_of, addresses)):
        if principal.kind is PrincipalKind.LOCAL_GROUP:
            yield from lookup.principal_on(principal, platform, source)
        declared = lookup.estate.platforms.get(platform)
        if declared and declared.habits.binds is Binds.GROUPS and principal.kind is PrincipalKind.USER:
            message = f"{platform} binds groups only, found {principal}"
            yield error("groups-only", source, message, "bind a group that holds the user")


def _deny(lookup: Lookup, shape: BindingShape, address: str, source: Source) -> Found:
    platform = lookup.estate.platforms.get(platform_of(address))
    if shape.deny and platform and platform.habits.decides is Decides.ANY_ALLOW:
        message = f"{platform.name} knows no deny: it decides by any-allow"
        yield error("no-deny", source, message, "take the allow away instead, or let the role except the action")


def _twice(estate: Estate) -> Found:
    """The same binding twice is worth a warning, except where the order decides, or a bundle brings it again."""
    first: dict[tuple[object, ...], Source] = {}
    for b in estate.bindings:
        platform = estate.platforms.get(platform_of(b.scope))
        if platform is None or platform.habits.decides is Decides.LAST_MATCH:
            continue
        key = (*b.key, b.effect, b.here_only, b.condition, b.built_in)
        if key in first and not b.bundle:
            message = f"{b.role} is given to {b.principal} at {b.scope} a second time"
            hint = f"it is given at {first[key].line_address} already"
            yield Finding("same-binding-twice", Severity.WARNING, b.source, message, hint)
        first.setdefault(key, b.source)


def _one_list(estate: Estate) -> Found:
    """Where the last match decides, all bindings must stand in one file."""
    first: dict[str, Source] = {}
    told: set[str] = set()
    for b in estate.bindings:
        name = platform_of(b.scope)
        platform = estate.platforms.get(name)
        if platform is None or platform.habits.decides is not Decides.LAST_MATCH or b.built_in:
            continue
        if first.setdefault(name, b.source).file != b.source.file and b.source.file not in told:
            told.add(b.source.file)
            message = f"the order of {name}'s bindings decides, and they stand in {first[name].file} too"
            yield error("two-lists", b.source, message, "write all of them in one file, in their order")


def _expectation(lookup: Lookup, text: Text, place: int, shape: ExpectationShape) -> Found:
    def at(*key: str | int) -> Source:
        return text.source("expectations", place, *key)

    if shape.user is not None and shape.user != PrincipalKind.ANONYMOUS:
        yield from lookup.principal(Principal(PrincipalKind.USER, shape.user), at("user"))
    if shape.only is not None:
        yield from lookup.principal(principal_of(shape.only), at("only"))
    if shape.situation is not None:
        yield from lookup.name(shape.situation, lookup.estate.situations, "situation", at("in"))
    key = next(k for k in ("may", "may not", "nobody may both") if ("expectations", place, k) in text.values)
    placed = shape.placed
    if placed is not None:
        yield from lookup.scope(placed[1], at(placed[0]))
    for j, duty in enumerate(duties_of(shape)):
        if placed is None:
            yield from lookup.scope(duty.scope, at(key, j))
        yield from _duty(lookup, duty, at(key, j))


def _duty(lookup: Lookup, duty: Duty, source: Source) -> Found:
    action, address = duty.action, duty.scope
    platform = lookup.estate.platforms.get(platform_of(address))
    if platform is None or address not in platform.scopes:
        return
    yield from lookup.name(action, platform.actions, f"action on {platform.name} named", source)
    kind = platform.scopes[address].kind
    if duty.extent is Extent.AT and action in platform.actions and not platform.actions[action].applies(kind):
        kinds = ", ".join(platform.actions[action].applies_to)
        message = f"{action} does not apply to a {kind}, only to: {kinds}"
        yield error("not-applicable", source, message, "write `anywhere in:` to mean the scopes below")
