"""How a platform is reached, and what of it is managed, as its file says it."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field, StringConstraints

from justlane.files.reading.vocabulary import REACHED, SECRET, Many, Shape, Words

SecretText = Annotated[str, StringConstraints(pattern=SECRET)]


class ManagesShape(Shape):
    """What the estate answers for on a platform. What is outside is left alone."""

    places: Many = Field((), description="Addresses, or patterns of them: these, and what they cover.")
    roles: Many = Field((), description="Names of roles, or patterns with *.")
    accounts: Many = Field((), description="`user NAME` (or a pattern with *), `group NAME` for the people in it.")


class ConnectionShape(Shape):
    """How align and probe reach a platform."""

    connector: Words = Field(description="The kind of interface that the platform has.")
    url: Annotated[str, StringConstraints(pattern=REACHED)] = Field("", description="Its address.")
    token_from: SecretText | None = Field(
        None,
        alias="token from",
        description="Where the token or password is: `environment NAME`, `file PATH` or `keyring NAME`.",
    )
    trust: Words = Field("", description="A file with certificates to trust (PEM), instead of the system's.")
    account: Words = Field("", description="The account that reads and aligns (postgresql).")
    passwords_from: SecretText | None = Field(
        None, alias="passwords from", description="The people's passwords, a line `login password` each, for probing."
    )
    leave_alone: Many = Field(
        (), alias="leave alone", description="Accounts and groups on the platform that are not this estate's business."
    )
    file: Words = Field("", description="The file of rules (subversion), or the export to read (sheet).")
    repository: Words = Field("", description="The name of the repository in the file of rules (subversion).")
    scratch: Words = Field("", description="The path below which probe may really commit (subversion).")
    folder: Words = Field("", description="The folder on this machine that the platform stands for (folders).")
    columns: dict[Words, Words] = Field({}, description="What is in which column of the export (sheet).")
    options: dict[Words, Words] = Field({}, alias="with", description="Settings of a connector of another package.")
