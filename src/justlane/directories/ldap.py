"""LDAP v3 (RFC 4511): people and groups of a directory server, read page by page.

Every page's result code is checked: what is not complete is an error, and nothing of it is taken.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable

from justlane.directories.entries import PRIMARY, EntryReader, Groups, People, Values, groups_of, people_of
from justlane.directories.interface import Surroundings
from justlane.directories.ldap_session import LdapSession
from justlane.files.people.intake import Intake
from justlane.files.reading.directory_shapes import DirectoryShape, GroupSearchShape, LdapShape, PeopleSearchShape
from justlane.model.errors import IncompleteError, NoRightError
from justlane.model.findings import Severity


class LdapSource:
    """A directory server as a source of people."""

    has_lines = False

    def read(self, shape: DirectoryShape, intake: Intake, around: Surroundings) -> None:
        """Sign in and read all people, then all groups. NoRightError if the account sees nobody."""
        assert shape.ldap is not None
        session = LdapSession(shape.ldap, around.folder, around.permit)
        try:
            people, groups = people_of(shape.ldap.people), groups_of(shape.ldap.groups)
            reader = EntryReader(intake, people, groups)
            reading = _Reading(session, shape.ldap, around)
            reading.all(shape.ldap.people, people.classes, _asked(people, groups), reader.person_found)
            if not intake.logins:
                where = f" under {' or '.join(shape.ldap.people.under)}" if shape.ldap.people.under else ""
                message = f"{session.server}: no people were found{where}"
                raise NoRightError(message, "the account may not see them, or `under` and `where` are wrong")
            reading.all(shape.ldap.groups, groups.classes, _asked(people, groups), reader.group)
            for elsewhere in session.not_followed:
                message = f"a part of the directory was not read, it lies at {elsewhere}"
                intake.wrong(0, message, "it is one of the server's own", severity=Severity.NOTE)
        finally:
            session.close()


class _Reading:
    def __init__(self, session: LdapSession, shape: LdapShape, around: Surroundings) -> None:
        self._session = session
        self._most = shape.most
        self._progress = around.progress
        self._count = 0
        self._progress.start(0, session.server)

    def all(
        self,
        shape: PeopleSearchShape | GroupSearchShape,
        classes: Iterable[str],
        attributes: list[str],
        take: Callable[[str, int, Values], None],
    ) -> None:
        """Hand every entry that a shape describes to `take`."""
        where = shape.where or _any_of(classes)
        for under in shape.under or self._session.contexts():
            self._below(under, where, attributes, take)

    def _below(self, under: str, where: str, attributes: list[str], take: Callable[[str, int, Values], None]) -> None:
        before = self._count
        for page in self._session.pages(under, where, attributes):
            self._count += len(page.entries)
            if self._count > self._most:
                hint = "narrow it down by `under` and `where`, or raise `at most`"
                raise IncompleteError(f"{self._session.server}: there are more than {self._most:,} entries", hint)
            for entry in page.entries:
                take(entry.dn, 0, {name: _texts(values) for name, values in entry.attributes.items()})
            self._progress.reach(self._count, page.total and before + page.total)


def _asked(people: People, groups: Groups) -> list[str]:
    """The attributes to ask for, operational ones among them."""
    disabled = (condition.partition(" ")[0] for condition in people.disabled)
    asked = (
        *people.login,
        *people.name,
        *people.id,
        *disabled,
        *groups.name,
        *groups.purpose,
        *groups.id,
        *groups.members,
        *PRIMARY,
        "objectClass",
    )
    return list(dict.fromkeys(asked))


def _any_of(classes: Iterable[str]) -> str:
    return f"(|{''.join(f'(objectClass={name})' for name in sorted(classes))})"


def _texts(values: Iterable[bytes]) -> list[tuple[str, int]]:
    return [(value.decode("utf-8", "surrogateescape"), 0) for value in values]


source = LdapSource()
