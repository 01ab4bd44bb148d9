"""The shape of each kind of file, as pydantic models: what is checked here is also what the schemas say.

Values are text as written (`yamltext`); pydantic turns them into numbers and yes-or-no where that is meant.
"""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, BeforeValidator, ConfigDict, Field, StringConstraints, model_validator
from pydantic_core import PydanticCustomError

from justlane.model.estate import Binds, Decides, Unbound


def _listed(value: Any) -> Any:
    return [value] if isinstance(value, str) else value


def _scope(value: Any) -> Any:
    return {"is": value} if isinstance(value, str) else value


Words = Annotated[str, StringConstraints(min_length=1, strip_whitespace=True)]
Name = Annotated[str, StringConstraints(pattern=r"^[\w.@+-]+$")]
PrincipalText = Annotated[
    str, StringConstraints(pattern=r"^(group \S.*|user \S.*|authenticated|anonymous)$", strip_whitespace=True)
]
NamedPrincipal = Annotated[str, StringConstraints(pattern=r"^(group|user) \S.*$", strip_whitespace=True)]
YesNo = Annotated[bool, BeforeValidator(lambda value: value, json_schema_input_type=bool | Literal["yes", "no"])]
Value = Annotated[str, BeforeValidator(lambda value: value, json_schema_input_type=str | float | bool)]
Many = Annotated[tuple[Words, ...], BeforeValidator(_listed, json_schema_input_type=Words | list[Words])]
ManyPrincipals = Annotated[
    tuple[PrincipalText, ...],
    BeforeValidator(_listed, json_schema_input_type=PrincipalText | list[PrincipalText]),
]


class Shape(BaseModel):
    """What all shapes share: unknown keys are errors, keys are spelt as in the files."""

    model_config = ConfigDict(extra="forbid", frozen=True)


class DirectoryShape(Shape):
    """One source of people."""

    ldif: Words = Field(description="An LDIF file (RFC 2849), relative to the estate's folder.")


class HabitsShape(Shape):
    """How a platform decides."""

    decides: Decides = Field(description="How several bindings are weighed against each other.")
    unbound: Unbound = Field(Unbound.CLOSED, description="What holds where no binding covers a scope.")
    binds: Binds = Field(Binds.GROUPS_AND_USERS, description="To whom a role can be given.")


class ConnectionShape(Shape):
    """How align and probe reach a platform."""

    connector: Words = Field(description="The kind of interface that the platform has.")
    url: Annotated[str, StringConstraints(pattern=r"^https?://\S+$")] = Field(description="Its address.")
    token_from: Annotated[str, StringConstraints(pattern=r"^(environment|file) \S.*$")] = Field(
        alias="token from", description="`environment NAME` or `file PATH`; never the token itself."
    )


class ActionShape(Shape):
    """Something that can be done, in the platform's own word."""

    means: Words = Field("", description="What it lets people do, in plain words.")
    implies: Many = Field((), description="Actions that whoever holds this one holds too.")
    applies_to: Many = Field(
        (), alias="applies to", description="Kinds of scope where it can be done; all, when left out."
    )
    sensitive: YesNo = Field(False, description="Whether it deserves a second look wherever it is given.")


class ScopeShape(Shape):
    """A place: its kind, or a mapping with what it holds."""

    kind: Words = Field(alias="is", description="The kind of scope, in the platform's own word.")
    purpose: Words = Field("", alias="for", description="What it is for.")
    has: dict[Words, Value] = Field({}, description="Attributes.")
    holds: dict[Name, AnyScope] = Field({}, description="The scopes inside.")
    gathers: Many = Field((), description="For a resource group: the addresses of the scopes that it gathers.")


AnyScope = Annotated[ScopeShape, BeforeValidator(_scope, json_schema_input_type=Words | ScopeShape)]


class RoleShape(Shape):
    """A named set of actions."""

    purpose: Words = Field("", alias="for", description="What people with this role do.")
    allows: Many = Field((), description="Actions, or patterns with *.")
    excepts: Many = Field((), description="Actions, or patterns with *, that it does not hold after all.")
    builds_on: Many = Field((), alias="builds on", description="Roles whose actions it holds too.")
    owner: NamedPrincipal | None = Field(None, description="Who answers for it: `user NAME` or `group NAME`.")
    built_in: YesNo = Field(False, alias="built-in", description="Whether the platform ships with it.")


class BindingShape(Shape):
    """Who is given which role where, and why."""

    give: Many = Field(description="One or more roles.")
    to: ManyPrincipals = Field(description="`group NAME`, `user NAME`, `authenticated` or `anonymous`.")
    at: Many = Field(description="The addresses of one or more scopes.")
    because: Words = Field(description="The reason, for whoever inherits the estate.")


class ExpectationShape(Shape):
    """A statement of what must hold."""

    user: Words | None = Field(None, description="This user may, or may not.")
    only: Annotated[str, StringConstraints(pattern=r"^group \S.*$")] | None = Field(
        None, description="`group NAME`: nobody outside it may."
    )
    at_most: Annotated[int, Field(ge=0)] | None = Field(
        None, alias="at most", description="No more people than this may."
    )
    nobody_may_both: Many | None = Field(
        None, alias="nobody may both", description="Two or more actions (or `ACTION at SCOPE`) that must stay apart."
    )
    may: Many | None = Field(None, description="One or more actions.")
    may_not: Many | None = Field(None, alias="may not", description="One or more actions.")
    at: Words | None = Field(None, description="The address of a scope.")
    anywhere_in: Words | None = Field(None, alias="anywhere in", description="A scope, with all that it covers.")
    because: Words = Field("", description="Why it must hold.")

    @model_validator(mode="after")
    def _one_sentence(self) -> ExpectationShape:
        """The keys must make one of the five sentences."""
        keys = {type(self).model_fields[name].alias or name for name in self.model_fields_set} - {"because"}
        place = keys & {"at", "anywhere in"}
        claim = keys - place
        if claim not in (
            {"user", "may"},
            {"user", "may not"},
            {"only", "may"},
            {"at most", "may"},
            {"nobody may both"},
        ):
            raise PydanticCustomError(
                "sentence", "the keys {keys} do not make a sentence", {"keys": ", ".join(sorted(keys))}
            )
        placed = self.nobody_may_both is not None and all(" at " in duty for duty in self.nobody_may_both)
        if len(place) != (0 if placed else 1):
            raise PydanticCustomError("place", "it must say one place")
        if self.nobody_may_both is not None and len(self.nobody_may_both) < 2:
            raise PydanticCustomError("apart", "it takes two or more duties to keep apart")
        return self


Bindings = Annotated[tuple[BindingShape, ...], Field(description="Who is given which role where, and why.")]
Expectations = Annotated[
    tuple[ExpectationShape, ...], Field(description="What must hold; `justlane verify` proves it.")
]
Roles = Annotated[dict[Name, RoleShape], Field(description="Named sets of actions.")]


class EstateFile(Shape):
    """The root file of an estate, `estate.yaml`."""

    estate: Words = Field(description="The estate's name.")
    purpose: Words = Field("", alias="for", description="What it is for.")
    time_zone: Words = Field("UTC", alias="time zone", description="An IANA time zone, such as Europe/Amsterdam.")
    directories: dict[Name, DirectoryShape] = Field(description="Where people and groups come from.")
    include: Many = Field((), description="The other files, relative to the folder; * matches in file names.")
    bindings: Bindings = ()
    expectations: Expectations = ()


class PlatformFile(Shape):
    """A file that declares one platform."""

    platform: Name = Field(description="The platform's name: addresses of its scopes start with it.")
    purpose: Words = Field("", alias="for", description="What it is for.")
    habits: HabitsShape
    reached_by: ConnectionShape | None = Field(None, alias="reached by")
    actions: dict[Name, ActionShape] = Field(description="What can be done on it, in its own words.")
    scopes: dict[Name, AnyScope] = Field({}, description="The tree of places.")
    roles: Roles = {}
    bindings: Bindings = ()
    expectations: Expectations = ()


class RolesFile(Shape):
    """A file with roles of one platform."""

    roles_for: Name = Field(alias="roles for", description="The platform's name.")
    roles: Roles


class BindingsFile(Shape):
    """A file with bindings."""

    bindings: Bindings
    expectations: Expectations = ()


class ExpectationsFile(Shape):
    """A file with expectations."""

    expectations: Expectations
    bindings: Bindings = ()


FILE_KINDS: dict[str, type[Shape]] = {
    "estate": EstateFile,
    "platform": PlatformFile,
    "roles for": RolesFile,
    "bindings": BindingsFile,
    "expectations": ExpectationsFile,
}
"""Each kind of file, by the key that it is recognised by, in the order in which they are looked for."""
