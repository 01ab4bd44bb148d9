"""How an estate says where its people come from: one shape for each kind of source."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BeforeValidator, Field, StringConstraints, model_validator
from pydantic_core import PydanticCustomError

from justlane.files.reading.vocabulary import (
    ADDRESS,
    CONDITION,
    GROUP_RULE,
    LDAP_URL,
    LOGIN_RULE,
    SECRET,
    SHARE,
    SPAN_OF_TIME,
    Many,
    Shape,
    Words,
    as_list,
    unsaid,
)

Secret = Annotated[str, StringConstraints(pattern=SECRET)]
Positive = Annotated[int, Field(ge=1, le=1_000_000_000)]
Condition = Annotated[str, StringConstraints(pattern=CONDITION, strip_whitespace=True)]
Conditions = Annotated[
    tuple[Condition, ...], BeforeValidator(as_list, json_schema_input_type=Condition | list[Condition])
]

SECRET_MEANS = "`environment NAME`, `file PATH` or `keyring NAME`; never the secret itself."


def _file(value: Any) -> Any:
    return {"file": value} if isinstance(value, str) else value


class PersonEntriesShape(Shape):
    """Which entries are people, and which attribute means what. Of several, the first that is there counts."""

    schema_name: Literal["any", "inetOrgPerson", "posixAccount", "user"] = Field(
        "any", alias="schema", description="The object class that the entries follow; it presets the rest."
    )
    under: Many = Field((), description="Entries below which they are; the whole directory, when left out.")
    login: Many = Field((), description="Attributes for the login.")
    name: Many = Field((), description="Attributes for the name that people know them by.")
    stable_id: Many = Field((), alias="id", description="Attributes that stay the same when somebody is renamed.")
    disabled_when: Conditions = Field(
        (),
        alias="disabled when",
        description="Any of: `ATTRIBUTE`, and behind it nothing, `is VALUE`, `has bit NUMBER` or `is before today`.",
    )
    machines: Literal["left out", "people"] = Field(
        "left out", description="Whether computers and managed service accounts are people too."
    )


class GroupEntriesShape(Shape):
    """Which entries are groups, and which attribute means what."""

    schema_name: Literal["any", "groupOfNames", "groupOfUniqueNames", "posixGroup", "group"] = Field(
        "any", alias="schema", description="The object class that the entries follow; it presets the rest."
    )
    under: Many = Field((), description="Entries below which they are; the whole directory, when left out.")
    name: Many = Field((), description="Attributes for the group's name.")
    purpose: Many = Field((), alias="for", description="Attributes for what it is for.")
    stable_id: Many = Field((), alias="id", description="Attributes that stay the same when it is renamed.")
    members: Many = Field(
        (),
        description="Attributes that hold the members: member, uniqueMember, memberUid; or memberOf, of members.",
    )


class PeopleSearchShape(PersonEntriesShape):
    """The same, of a server, which can be told to look for some only."""

    where: Words = Field("", description="An LDAP filter (RFC 4515), instead of the preset one.")


class GroupSearchShape(GroupEntriesShape):
    """The same, of a server, which can be told to look for some only."""

    where: Words = Field("", description="An LDAP filter (RFC 4515), instead of the preset one.")


class LdifShape(Shape):
    """A file with entries of a directory."""

    file: Words = Field(description="An LDIF file (RFC 2849), relative to the estate's folder.")
    people: PersonEntriesShape = Field(unsaid(PersonEntriesShape), description="Which entries are people.")
    groups: GroupEntriesShape = Field(unsaid(GroupEntriesShape), description="Which entries are groups.")


class LdapShape(Shape):
    """A directory server that is asked by LDAP v3 (RFC 4511)."""

    url: Annotated[str, StringConstraints(pattern=LDAP_URL)] = Field(
        description="ldaps://HOST, ldap://HOST:PORT (TLS is started first), or ldapi://PATH of a socket."
    )
    encryption: Literal["tls", "none"] = Field("tls", description="`none` sends everything readable; avoid it.")
    trust: Words = Field("", description="A file with certificates to trust (PEM), instead of the system's.")
    sign_in_as: Words = Field("", alias="sign in as", description="The DN of the reading account.")
    password_from: Secret | None = Field(None, alias="password from", description=SECRET_MEANS)
    sign_in_by: Literal["password", "certificate", "socket", "nobody"] = Field(
        "password", alias="sign in by", description="`certificate` and `socket` sign in by SASL EXTERNAL (RFC 4422)."
    )
    certificate: Words = Field("", description="For signing in by certificate: a PEM file with it.")
    certificate_key: Words = Field("", alias="key", description="A PEM file with its key, readable by you alone.")
    people: PeopleSearchShape = Field(unsaid(PeopleSearchShape), description="Which entries are people.")
    groups: GroupSearchShape = Field(unsaid(GroupSearchShape), description="Which entries are groups.")
    page_size: Positive = Field(500, alias="page size", description="Entries to a page (RFC 2696).")
    patience: Positive = Field(60, alias="wait at most", description="Seconds to wait for one answer.")
    most: Positive = Field(5_000_000, alias="at most", description="More entries than this are a mistake.")

    @model_validator(mode="after")
    def _one_way_in(self) -> LdapShape:
        """A password needs an account, a certificate its files."""
        if self.sign_in_by == "password":
            if not (self.sign_in_as and self.password_from):
                raise PydanticCustomError("sign in", "it does not say how to sign in")
        elif self.sign_in_as or self.password_from:
            raise PydanticCustomError("signs in twice", "it says two ways to sign in")
        if (self.sign_in_by == "certificate") != bool(self.certificate and self.certificate_key):
            raise PydanticCustomError("sign in", "signing in by certificate takes a `certificate` and its `key`")
        return self


class ScimShape(Shape):
    """A service that is asked by SCIM 2.0 (RFC 7644)."""

    url: Annotated[str, StringConstraints(pattern=ADDRESS)] = Field(description="Its base address.")
    token_from: Secret = Field(alias="token from", description=SECRET_MEANS)
    trust: Words = Field("", description="A file with certificates to trust (PEM), instead of the system's.")
    encryption: Literal["tls", "none"] = Field("tls", description="`none` sends the token readable; avoid it.")
    people_where: Words = Field("", alias="people where", description="A SCIM filter for people.")
    groups_where: Words = Field("", alias="groups where", description="A SCIM filter for groups.")
    until: Words = Field("", description="The attribute with an account's end, as the schema calls it: URN:NAME.")
    page_size: Positive = Field(200, alias="page size", description="Resources to a page.")
    patience: Positive = Field(60, alias="wait at most", description="Seconds to wait for one answer.")
    most: Positive = Field(5_000_000, alias="at most", description="More resources than this are a mistake.")

    @model_validator(mode="after")
    def _safe(self) -> ScimShape:
        """A token is not sent readable by accident."""
        if self.url.startswith("http:") and self.encryption == "tls":
            raise PydanticCustomError("readable", "http:// sends the token readable")
        return self


class CsvColumnsShape(Shape):
    """The headings of the columns; capitals do not matter."""

    login: Words = Field("login", description="Whose row it is.")
    name: Words = Field("name", description="The name that people know them by.")
    enabled: Words = Field("enabled", description="yes or no; everybody is enabled when the column is missing.")
    stable_id: Words = Field("id", alias="id", description="Stays the same when somebody is renamed.")
    until: Words = Field("until", description="The last day of the account, as YYYY-MM-DD; empty for none.")
    group: Words = Field("group", description="In the file of memberships: the group.")
    member: Words = Field("member", description="In the file of memberships: a login, or `group NAME`.")
    purpose: Words = Field("for", alias="for", description="In the file of memberships: what the group is for.")


class CsvWordsShape(Shape):
    """Words beside yes, y, true, 1, active, enabled and no, n, false, 0, inactive, disabled; capitals do not matter."""

    yes: Many = Field((), description="More words for yes.")
    no: Many = Field((), description="More words for no.")


class CsvShape(Shape):
    """Two tables, as a spreadsheet exports them (RFC 4180, with commas, semicolons or tabs)."""

    people: Words = Field(description="The file with one row for each person.")
    memberships: Words = Field(description="The file with one row for each member of a group.")
    columns: CsvColumnsShape = Field(unsaid(CsvColumnsShape), description="What the columns are called.")
    encoding: Literal["utf-8", "utf-16", "latin-1", "windows-1252"] = Field(
        "utf-8", description="How the tables are written; a byte order mark says it by itself."
    )
    words: CsvWordsShape = Field(unsaid(CsvWordsShape), description="What stands for yes and no.")


class DirectoryShape(Shape):
    """One source of people, and how its names become names of the estate."""

    ldif: Annotated[LdifShape, BeforeValidator(_file, json_schema_input_type=Words | LdifShape)] | None = Field(
        None, description="An LDIF file."
    )
    csv: CsvShape | None = Field(None, description="Two tables.")
    ldap: LdapShape | None = Field(None, description="A directory server.")
    scim: ScimShape | None = Field(None, description="A SCIM service.")
    login_becomes: Annotated[str, StringConstraints(pattern=LOGIN_RULE)] = Field(
        "*", alias="login becomes", description="Gives its users other logins: * is the login that it has."
    )
    group_becomes: Annotated[str, StringConstraints(pattern=GROUP_RULE)] = Field(
        "*", alias="group becomes", description="Gives its groups other names: * is the name that it has."
    )
    same_login: Literal["mistake", "same person"] = Field(
        "mistake", alias="same login", description="What a login means that a directory above has too."
    )

    @model_validator(mode="after")
    def _one_kind(self) -> DirectoryShape:
        """It is of exactly one kind."""
        if sum(getattr(self, kind) is not None for kind in KINDS) != 1:
            raise PydanticCustomError("source", "a directory is of exactly one kind")
        return self

    @property
    def kind(self) -> str:
        """`ldif`, `csv`, `ldap` or `scim`."""
        return next(kind for kind in KINDS if getattr(self, kind) is not None)

    @property
    def where(self) -> str:
        """The file, or the address."""
        shape = getattr(self, self.kind)
        return str(getattr(shape, {"ldif": "file", "csv": "people"}.get(self.kind, "url")))

    @property
    def files(self) -> tuple[tuple[str, str], ...]:
        """The estate's files that it is read from, each with the key that names it; none if it is asked."""
        if self.ldif:
            return (("file", self.ldif.file),)
        return (("people", self.csv.people), ("memberships", self.csv.memberships)) if self.csv else ()


KINDS = ("ldif", "csv", "ldap", "scim")


class PeopleShape(Shape):
    """The local snapshots of all directories."""

    pull_every: Annotated[str, StringConstraints(pattern=SPAN_OF_TIME)] = Field(
        "7 days", alias="pull every", description="Commands warn when the newest snapshot is older than this."
    )
    keep: Positive = Field(20, description="How many snapshots are kept for questions about the past.")
    may_vanish: Annotated[str, StringConstraints(pattern=SHARE)] = Field(
        "25 %", alias="may vanish", description="When more users than this are gone, a reading is not believed."
    )
    same_person: tuple[Many, ...] = Field(
        (), alias="same person", description="Lists of logins, each list those of one person."
    )
