"""Bindings, bundles, situations and expectations: everything that they name must exist and make sense."""

from __future__ import annotations

from ipaddress import ip_address

from justlane.files.checking_platforms import check_platforms
from justlane.files.declared import DeclaredFiles
from justlane.files.grants import BUNDLE, bundles_of, duties_of, principal_of, role_at
from justlane.files.lookup import FormerName, Found, Lookup, error, is_time_zone, no_time_zone
from justlane.files.shapes import BindingShape, ExpectationShape, FileWithBindings, RolesFile
from justlane.files.yamltext import Text
from justlane.model.estate import Binds, Decides, Estate
from justlane.model.findings import Finding, Source
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
    found += check_platforms(lookup, declared)
    bundles = set(bundles_of(declared))
    for text, file_with_bindings in declared.of(FileWithBindings):
        found += _bundles(lookup, text, file_with_bindings)
        found += _situations(text, file_with_bindings)
        for place, binding in enumerate(file_with_bindings.bindings):
            found += _binding(lookup, bundles, text, place, binding)
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


def _binding(lookup: Lookup, bundles: set[str], text: Text, place: int, shape: BindingShape) -> Found:
    key = "give" if shape.give else "deny"
    for j, principal in enumerate(shape.to):
        yield from _to(lookup, principal_of(principal), shape.at, text.source("bindings", place, "to", j))
    for j, address in enumerate(shape.at):
        yield from lookup.scope(address, text.source("bindings", place, "at", j))
        yield from _deny(lookup, shape, address, text.source("bindings", place, key))
    for j, role in enumerate(shape.give or shape.deny):
        source = text.source("bindings", place, key, j)
        if role.startswith(BUNDLE):
            yield from lookup.name(role.removeprefix(BUNDLE).strip(), bundles, "bundle", source)
        for platform in dict.fromkeys(map(platform_of, shape.at)):
            yield from lookup.role(role, platform, source)
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
    """The same binding twice is a mistake, except where the order decides."""
    first: dict[tuple[object, ...], Source] = {}
    for b in estate.bindings:
        platform = estate.platforms.get(platform_of(b.scope))
        if platform is None or platform.habits.decides is Decides.LAST_MATCH:
            continue
        key = (*b.key, b.effect, b.here_only, b.condition, b.built_in)
        if key in first:
            message = f"{b.role} is given to {b.principal} at {b.scope} a second time"
            hint = f"it is given at {first[key].line_address} already"
            yield error("same-binding-twice", b.source, message, hint)
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

    if shape.user is not None:
        yield from lookup.principal(Principal(PrincipalKind.USER, shape.user), at("user"))
    if shape.only is not None:
        yield from lookup.principal(principal_of(shape.only), at("only"))
    if shape.situation is not None:
        yield from lookup.name(shape.situation, lookup.estate.situations, "situation", at("in"))
    key = next(k for k in ("may", "may not", "nobody may both") if ("expectations", place, k) in text.values)
    one_place = shape.at or shape.anywhere_in
    if one_place is not None:
        yield from lookup.scope(one_place, at("at" if shape.at else "anywhere in"))
    for j, duty in enumerate(duties_of(shape)):
        if one_place is None:
            yield from lookup.scope(duty.scope, at(key, j))
        yield from _duty(lookup, duty.action, duty.scope, duty.anywhere, at(key, j))


def _duty(lookup: Lookup, action: str, address: str, anywhere: bool, source: Source) -> Found:
    platform = lookup.estate.platforms.get(platform_of(address))
    if platform is None or address not in platform.scopes:
        return
    yield from lookup.name(action, platform.actions, f"action on {platform.name} named", source)
    kind = platform.scopes[address].kind
    if not anywhere and action in platform.actions and not platform.actions[action].applies(kind):
        kinds = ", ".join(platform.actions[action].applies_to)
        message = f"{action} does not apply to a {kind}, only to: {kinds}"
        yield error("not-applicable", source, message, "write `anywhere in:` to mean the scopes below")
