"""Entries of an X.500 directory, as LDIF and LDAP give them: which are people, which are groups, and what they hold.

The presets follow the schemas in use: RFC 4519 (groups of names), RFC 2798 (inetOrgPerson), RFC 2307 (posix accounts
and groups), RFC 4530 (entryUUID), and the `user` and `group` classes with their account-control flags.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping

from msgspec import Struct

from justlane.directories import ends
from justlane.directories.names import normalise
from justlane.files.people.intake import Intake
from justlane.files.reading.directory_shapes import GroupEntriesShape, PersonEntriesShape

Values = Mapping[str, list[tuple[str, int]]]
"""Attribute in lower case -> its values, each with the line where it starts (0 if there is none). Bytes that are not
UTF-8 stand as surrogates."""

Take = Callable[[str, int, Values], None]
"""Takes an entry: its distinguished name, its line, and what it holds."""

IDS = ("entryuuid", "nsuniqueid", "objectguid", "ipauniqueid")
BY_LOGIN = "memberuid"
WITH_BITS = "uniquemember"
MACHINES = (
    "computer",
    "msds-managedserviceaccount",
    "msds-groupmanagedserviceaccount",
    "msds-delegatedmanagedserviceaccount",
)
"""Classes of accounts that are no people's, although they are of the class of people too."""
PRIMARY = ("primarygroupid", "objectsid", "gidnumber")
"""What says in which group an account begins: the end of a group's security identifier, or a group's number."""
BEFORE_TODAY = "is before today"
ENDS = ("shadowexpire", "accountexpires", "pwdendtime", "krbprincipalexpiration", "loginexpirationtime")
"""Attributes that say when an account ends; they count whatever else an estate says."""
_TELLING = ("samaccountname", "uid", "userprincipalname", "mail")
"""Attributes that may tell two entries of one name apart."""
OF_MEMBERS = "memberof"
_MOST_DIGITS = 20
"""Flags are 32 or 64 bits."""
_OFF = ("pwdaccountlockedtime", "logindisabled is true", "nsaccountlock is true", "useraccountcontrol has bit 1")


class People(Struct, frozen=True):
    """Which entries are people, and which attribute means what; all in lower case."""

    classes: frozenset[str]
    login: tuple[str, ...]
    name: tuple[str, ...]
    id: tuple[str, ...]
    disabled: tuple[str, ...]
    """`attribute`, `attribute is value`, `attribute has bit number`, `attribute is before today`."""
    under: tuple[str, ...] = ()
    """The entries below which they are, in their one form; none for everywhere."""
    machines: bool = False
    """Whether computers and managed service accounts are people too."""


class Groups(Struct, frozen=True):
    """Which entries are groups, and which attribute means what; all in lower case."""

    classes: frozenset[str]
    name: tuple[str, ...]
    purpose: tuple[str, ...]
    id: tuple[str, ...]
    members: tuple[str, ...]
    under: tuple[str, ...] = ()
    """The entries below which they are, in their one form; none for everywhere."""


_ANY_PERSON = (
    "person",
    "inetorgperson",
    "organizationalperson",
    "account",
    "posixaccount",
    "user",
    "simplesecurityobject",
)
_ANY_GROUP = ("groupofnames", "groupofmembers", "groupofuniquenames", "groupofurls", "posixgroup", "group")

PEOPLE = {
    "any": People(frozenset(_ANY_PERSON), ("uid", "samaccountname", "cn"), ("displayname", "cn"), IDS, _OFF),
    "inetOrgPerson": People(frozenset(["inetorgperson"]), ("uid",), ("displayname", "cn"), IDS, _OFF),
    "posixAccount": People(frozenset(["posixaccount"]), ("uid",), ("gecos", "cn"), IDS, _OFF),
    "user": People(frozenset(["user"]), ("samaccountname",), ("displayname", "cn"), IDS, _OFF),
}
"""Presets by object class."""

GROUPS = {
    "any": Groups(frozenset(_ANY_GROUP), ("cn",), ("description",), IDS, ("member", "uniquemember", "memberuid")),
    "groupOfNames": Groups(frozenset(["groupofnames"]), ("cn",), ("description",), IDS, ("member",)),
    "groupOfUniqueNames": Groups(frozenset(["groupofuniquenames"]), ("cn",), ("description",), IDS, ("uniquemember",)),
    "posixGroup": Groups(frozenset(["posixgroup"]), ("cn",), ("description",), IDS, ("memberuid",)),
    "group": Groups(frozenset(["group"]), ("cn",), ("description",), IDS, ("member",)),
}
"""Presets by object class."""


def people_of(shape: PersonEntriesShape) -> People:
    """The preset, with what an estate says otherwise."""
    preset = PEOPLE[shape.schema_name]
    return People(
        preset.classes,
        _lower(shape.login) or preset.login,
        _lower(shape.name) or preset.name,
        _lower(shape.stable_id) or preset.id,
        (*(_lower(shape.disabled_when) or preset.disabled), *(f"{name} {BEFORE_TODAY}" for name in ENDS)),
        tuple(map(key_of, shape.under)),
        shape.machines == "people",
    )


def groups_of(shape: GroupEntriesShape) -> Groups:
    """The preset, with what an estate says otherwise."""
    preset = GROUPS[shape.schema_name]
    return Groups(
        preset.classes,
        _lower(shape.name) or preset.name,
        _lower(shape.purpose) or preset.purpose,
        _lower(shape.stable_id) or preset.id,
        _lower(shape.members) or preset.members,
        tuple(map(key_of, shape.under)),
    )


def _lower(words: Iterable[str]) -> tuple[str, ...]:
    return tuple(word.lower() for word in words)


_PLAIN = re.compile(r"[a-z]+=[!-*\--<>-@\[\]-~]+(?:,[a-z]+=[!-*\--<>-@\[\]-~]+)*")
"""A name that is in its one form already: lower case, nothing escaped, no spaces."""


_is_plain = _PLAIN.fullmatch
_BITS = re.compile(r"#'[01]*'B$")
_SID_HEAD = 8
_SPELT = {"samaccountname": "sAMAccountName", "userprincipalname": "userPrincipalName"}


def key_of(dn: str) -> str:
    """A distinguished name in the form by which entries name each other."""
    return dn if _is_plain(dn) else normalise(clean(dn))


def clean(text: str) -> str:
    """Text without bytes that are no text."""
    return text if text.isascii() else text.encode("utf-8", "surrogateescape").decode("utf-8", "replace")


def stable(text: str, attribute: str) -> str:
    """An identifier as text; one of bytes in hexadecimal."""
    if attribute == "objectguid" or not clean(text).isprintable() or clean(text) != text:
        return text.encode("utf-8", "surrogateescape").hex()
    return text


class EntryReader:
    """Hands entries to an intake."""

    def __init__(self, intake: Intake, people: People, groups: Groups) -> None:
        self._intake = intake
        self._people = people
        self._groups = groups
        intake.ignores_case = True
        said = [condition.partition(" ") for condition in dict.fromkeys(people.disabled)]
        self._disabled = [(of, how) for of, _, how in said if how != BEFORE_TODAY]
        self._ends = [of for of, _, how in said if how == BEFORE_TODAY]
        self._kinds: dict[tuple[str, ...], Take | None] = {}
        """What is done with entries of these object classes."""

    def sort(self, dn: str, line: int, values: Values) -> None:
        """Take an entry for what its object classes say: a group, a user, or something that is passed over."""
        classes = tuple([value for value, _ in values.get("objectclass", ())])
        if classes not in self._kinds:
            if not classes:
                hint = "the export is incomplete: export all attributes"
                self._intake.wrong(line, f"the entry {clean(dn)!r} has no objectClass", hint)
                return
            self._kinds[classes] = self._kind({value.lower() for value in classes})
        take = self._kinds[classes]
        if take is not None:
            take(dn, line, values)

    def _kind(self, classes: set[str]) -> Take | None:
        if classes & self._groups.classes:
            return _below(self._groups.under, self.group)
        if not self._people.machines and classes & set(MACHINES):
            return None
        return _below(self._people.under, self.person) if classes & self._people.classes else None

    def person_found(self, dn: str, line: int, values: Values) -> None:
        """Take an entry that a search for people found, unless it is a machine. A server cannot be asked to leave those
        out: where it does not know their class, nothing would fit (RFC 4511, section 4.5.1.7)."""
        classes = {value.lower() for value, _ in values.get("objectclass", ())}
        if self._people.machines or not classes & set(MACHINES):
            self.person(dn, line, values)

    def person(self, dn: str, line: int, values: Values) -> None:
        """Take an entry for a user."""
        login = clean(_first(values, self._people.login))
        if not login:
            self._nameless("user", dn, line, self._people.login)
            return
        name = clean(_first(values, self._people.name)) or login
        key = key_of(dn)
        enabled = not any(_holds(values[of], said) for of, said in self._disabled if of in values)
        self._intake.user(
            login,
            name,
            enabled,
            key=key,
            stable_id=_id(values, self._people.id),
            line=line,
            end=self._end(values),
            others=[_SPELT.get(of, of) for of in _TELLING if of in values and of not in self._people.login[:1]],
        )
        for group in _primary(values):
            self._intake.begins_in(key, group, line)
        if OF_MEMBERS in self._groups.members:
            self._of_member(key, values)

    def group(self, dn: str, line: int, values: Values) -> None:
        """Take an entry for a group."""
        name = clean(_first(values, self._groups.name))
        if not name:
            self._nameless("group", dn, line, self._groups.name)
            return
        key, purpose = key_of(dn), clean(_first(values, self._groups.purpose))
        number = self._intake.group(
            name,
            purpose,
            key=key,
            stable_id=_id(values, self._groups.id),
            line=line,
            also=_begun_in(values),
            others=[_SPELT.get(of, of) for of in _TELLING if of in values],
        )
        if number is None:
            return
        for attribute in self._groups.members:
            if attribute == OF_MEMBERS:
                self._of_member(key, values)
            elif attribute == BY_LOGIN:
                for login, at in values.get(attribute, ()):
                    self._intake.member_by_login(number, clean(login), at)
            else:
                named = key_without_bits if attribute == WITH_BITS else key_of
                self._intake.members(number, values.get(attribute, ()), named)

    def _end(self, values: Values) -> int:
        """When an account ends, as an intake wants it: the first of all that is said. A finding for what is no date."""
        found: list[int] = []
        for of in self._ends:
            for value, line in values.get(of, ()):
                end = ends.when(of, value)
                if end is None:
                    hint = "correct it there, or say otherwise when an account is over: `disabled when`"
                    self._intake.wrong(line, f"{of} says {clean(value)!r}, which is no date that is known", hint)
                elif end:
                    found.append(end)
        return min(found, key=ends.in_order, default=0)

    def _of_member(self, key: str, values: Values) -> None:
        for value, at in values.get(OF_MEMBERS, ()):
            self._intake.held_by(key, key_of(value), at)

    def _nameless(self, what: str, dn: str, line: int, attributes: tuple[str, ...]) -> None:
        hint = f"a {what} needs one of: {', '.join(attributes)}"
        self._intake.wrong(line, f"the {what} {clean(dn)!r} has no name", hint)


def key_without_bits(dn: str) -> str:
    """The same of a name with a string of bits behind it (Name And Optional UID: RFC 4517, section 3.3.21)."""
    return key_of(_BITS.sub("", dn))


def _primary(values: Values) -> Iterator[str]:
    """The groups in which an account begins, as groups are called besides their names."""
    for value, _ in values.get("primarygroupid", ()):
        for sid, _ in values.get("objectsid", ()):
            yield f"sid {_sid(sid).rpartition('-')[0]}-{value}"
    yield from (f"gid {value}" for value, _ in values.get("gidnumber", ()))


def _begun_in(values: Values) -> list[str]:
    """How accounts that begin in a group call it."""
    found = [f"sid {_sid(value)}" for value, _ in values.get("objectsid", ())]
    return [*found, *(f"gid {value}" for value, _ in values.get("gidnumber", ()))]


def _sid(text: str) -> str:
    """A security identifier as text: of bytes, its revision, its authority and its parts ([MS-DTYP], 2.4.2.2)."""
    octets = text.encode("utf-8", "surrogateescape")
    if text.startswith("S-1-") or len(octets) < _SID_HEAD or len(octets) != _SID_HEAD + 4 * octets[1]:
        return text
    parts = [int.from_bytes(octets[n : n + 4], "little") for n in range(_SID_HEAD, len(octets), 4)]
    return "-".join(map(str, ("S", octets[0], int.from_bytes(octets[2:_SID_HEAD], "big"), *parts)))


def _below(under: tuple[str, ...], take: Take) -> Take:
    """The same for entries at or below some places only."""
    if not under:
        return take
    places = tuple(f",{place}" for place in under)

    def taken(dn: str, line: int, values: Values) -> None:
        if f",{key_of(dn)}".endswith(places):
            take(dn, line, values)

    return taken


def _first(values: Values, names: tuple[str, ...]) -> str:
    """The first value of the first of these attributes that the entry has; empty if none."""
    for name in names:
        if name in values:
            return values[name][0][0]
    return ""


def _id(values: Values, names: tuple[str, ...]) -> str:
    return next((stable(values[name][0][0], name) for name in names if name in values), "")


def _holds(given: list[tuple[str, int]], said: str) -> bool:
    """Whether what an attribute holds fulfils a condition: ``, `is VALUE` or `has bit NUMBER`."""
    if said.startswith("is "):
        return any(value.lower() == said[3:].strip() for value, _ in given)
    if said.startswith("has bit "):
        return any(
            value.isdecimal() and len(value) < _MOST_DIGITS and int(value) >> int(said[8:]) & 1 for value, _ in given
        )
    return any(value for value, _ in given)
