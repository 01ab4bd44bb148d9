"""The shape of each kind of file, as pydantic models: what is checked here is also what the schemas say.

Values are text as written (`yamltext`); pydantic turns them into numbers and yes-or-no where that is meant.
"""

from __future__ import annotations

from datetime import date, datetime
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, Field, StringConstraints, model_validator
from pydantic_core import PydanticCustomError

from justlane.files.reading.account_shapes import AccountsShape, LocalGroupShape
from justlane.files.reading.connection_shape import ConnectionShape, ManagesShape
from justlane.files.reading.directory_shapes import DirectoryShape, PeopleShape
from justlane.files.reading.vocabulary import (
    OF_GROUP,
    OF_USER,
    ROLE_AT,
    UNBOUND,
    Day,
    Many,
    ManyPrincipals,
    Name,
    NamedPrincipal,
    ScopeName,
    Shape,
    Span,
    SpanOfTime,
    Value,
    Words,
    YesNo,
    as_list,
    unsaid,
)
from justlane.model.estate import Binds, Decides, RolesHeld


def _scope(value: Any) -> Any:
    return {"is": value} if isinstance(value, str) else value


def _sensible(value: Any) -> Any:
    """A moment that clocks of every time zone can show."""
    if not 1900 <= value.year <= 2999:
        raise PydanticCustomError("year", "found the year {year}", {"year": value.year})
    return value


Moment = Annotated[datetime, AfterValidator(_sensible)]


class HabitsShape(Shape):
    """How a platform decides."""

    decides: Decides = Field(description="How several bindings are weighed against each other.")
    unbound: Annotated[str, StringConstraints(pattern=UNBOUND)] = Field(
        "closed", description="`closed`, or `open with ROLE`: what holds where nobody is given anything."
    )
    sign_in: Name = Field(
        "", alias="sign-in", description="The action that must be held at the root before any other counts."
    )
    on_the_way: Name = Field(
        "", alias="on the way", description="The action that must be held on every scope above the place."
    )
    roles_held: RolesHeld = Field(
        RolesHeld.TOGETHER, alias="roles held", description="Whether people act in one role at a time."
    )
    binds: Binds = Field(Binds.GROUPS_AND_USERS, description="To whom a role can be given.")
    publication: Literal["needed", "not needed"] = Field(
        "not needed", description="Whether a group counts only where it was published."
    )


def _lasting(value: str) -> str:
    """Hours that end when they begin are no hours; the whole day is written 00:00-24:00."""
    if value[:5] == value[6:]:
        raise PydanticCustomError("no hours", "{hours} start and end at the same minute", {"hours": value})
    return value


class WhenShape(Shape):
    """Circumstances that must hold."""

    networks: Many = Field(
        (), alias="from network", description="Networks in CIDR form, IPv4 or IPv6; any one of them."
    )
    multi_factor: YesNo | None = Field(None, alias="multi-factor", description="Whether a second factor was used.")
    not_networks: Many = Field(
        (), alias="not from network", description="Networks; from none of them. Whoever has no address is in none."
    )
    methods: Many = Field((), alias="signed in by", description="Ways to sign in; any one of them.")
    not_methods: Many = Field(
        (), alias="not signed in by", description="Ways to sign in; none of them. An unknown one is none."
    )
    weekdays: Annotated[tuple[Day, ...], BeforeValidator(as_list, json_schema_input_type=Day | list[Day])] = Field(
        (), alias="days", description="Weekdays, mon to sun, or spans such as mon-fri."
    )
    hours: Annotated[
        tuple[Annotated[Span, AfterValidator(_lasting)], ...],
        BeforeValidator(as_list, json_schema_input_type=Span | list[Span]),
    ] = Field(
        (), alias="between", description="Hours, such as 22:00-06:00; the start belongs to them, the end does not."
    )
    time_zone: Words = Field("", alias="time zone", description="For days and hours; the estate's own, when left out.")
    managed_device: YesNo | None = Field(
        None, alias="on a managed device", description="Whether the device is one that the organisation looks after."
    )
    signed_in_within: SpanOfTime = Field(
        "", alias="signed in within", description="How long ago they proved who they are, at most: 15 minutes, 8 hours."
    )


class WhereShape(BaseModel):
    """A condition on a scope's attributes: attribute and value, or several values, or a pattern with *."""

    model_config = ConfigDict(extra="allow", frozen=True)
    __pydantic_extra__: dict[str, Many]

    any_of: tuple[WhereShape, ...] = Field((), alias="any of", description="At least one of these conditions.")
    all_of: tuple[WhereShape, ...] = Field((), alias="all of", description="All of these conditions.")
    negated: WhereShape | None = Field(None, alias="not", description="Not this condition.")


class ActionShape(Shape):
    """Something that can be done, in the platform's own word."""

    means: Words = Field("", description="What it lets people do, in plain words.")
    implies: Many = Field((), description="Actions that whoever holds this one holds too.")
    applies_to: Many = Field(
        (), alias="applies to", description="Kinds of scope where it can be done; all, when left out."
    )
    sensitive: YesNo = Field(False, description="Whether it deserves a second look wherever it is given.")
    harmless: YesNo | None = Field(
        None, alias="harmless trial", description="Whether probe may really try it, since nothing is left of it."
    )


class ScopeShape(Shape):
    """A place: its kind, or a mapping with what it holds."""

    kind: Words = Field(alias="is", description="The kind of scope, in the platform's own word.")
    purpose: Words = Field("", alias="for", description="What it is for.")
    owner: NamedPrincipal | None = Field(None, description="Who answers for it and for what it holds.")
    has: dict[Words, Value] = Field({}, description="Attributes.")
    holds: dict[ScopeName, AnyScope] = Field({}, description="The scopes inside.")
    gathers: Many = Field((), description="For a resource group: the addresses of the scopes that it gathers.")
    gathers_where: WhereShape | None = Field(
        None,
        alias="gathers where",
        description="For a resource group: a condition on the attributes of what it gathers.",
    )


AnyScope = Annotated[ScopeShape, BeforeValidator(_scope, json_schema_input_type=Words | ScopeShape)]


class RoleShape(Shape):
    """A named set of actions."""

    purpose: Words = Field("", alias="for", description="What people with this role do.")
    allows: Many = Field((), description="Actions, or patterns with *.")
    excepts: Many = Field((), description="Actions, or patterns with *, that it does not hold after all.")
    builds_on: Many = Field((), alias="builds on", description="Roles whose actions it holds too.")
    owner: NamedPrincipal | None = Field(None, description="Who answers for it: `user NAME` or `group NAME`.")
    built_in: YesNo = Field(False, alias="built-in", description="Whether the platform ships with it.")
    kinds: Many = Field((), alias="kind", description="Free words by which it is found.")
    copied_from: Words = Field("", alias="copied from", description="The role that it was a copy of.")
    ships_with: Many = Field((), alias="ships with", description="What a built-in role held when it came.")


class BindingShape(Shape):
    """Who is given, or denied, which role where, when and why."""

    give: Many = Field((), description="One or more roles, or `bundle NAME`.")
    deny: Many = Field((), description="One or more roles that are taken away.")
    to: ManyPrincipals = Field(
        description="`group NAME`, `local group NAME`, `user NAME`, `authenticated` or `anonymous`."
    )
    at: Many = Field((), description="The addresses of one or more scopes, or patterns with * and **.")
    here_only: YesNo = Field(False, alias="here only", description="The scope itself, nothing below.")
    when: WhenShape | None = Field(None, description="The circumstances in which it counts.")
    first_day: date | None = Field(None, alias="from", description="The first day on which it counts.")
    last_day: date | None = Field(None, alias="until", description="The last day on which it counts.")
    built_in: YesNo = Field(False, alias="built-in", description="Whether the platform does this by itself.")
    account: Words = Field("", alias="as account", description="Which of a user's accounts has it, if not their own.")
    because: Words = Field(description="The reason, for whoever inherits the estate.")

    @model_validator(mode="after")
    def _one_effect(self) -> BindingShape:
        """It gives or denies, and says where (a bundle does that itself)."""
        if bool(self.give) == bool(self.deny):
            raise PydanticCustomError("effect", "it must either give or deny")
        bundles = [role for role in (*self.give, *self.deny) if role.startswith("bundle ")]
        if bool(self.at) == bool(bundles) or (bundles and len(bundles) < len(self.give) + len(self.deny)):
            raise PydanticCustomError("place", "a role needs a place, a bundle brings its own")
        return self


class BundleShape(Shape):
    """Roles at scopes, across platforms, that are bound together."""

    purpose: Words = Field("", alias="for", description="What it is for.")
    holds: Annotated[tuple[Annotated[str, StringConstraints(pattern=ROLE_AT)], ...], BeforeValidator(as_list)] = Field(
        description="Each `ROLE at SCOPE`."
    )


class PublishedShape(Shape):
    """A group that was published to scopes."""

    group: Words = Field(description="Its name.")
    to: Many = Field(description="The addresses of one or more scopes.")


class CeilingShape(Shape):
    """Actions that are never granted, whatever is bound."""

    never: Many = Field(description="Actions, or patterns with *.")
    to: ManyPrincipals = Field(description="To whom.")
    but_not_to: ManyPrincipals = Field((), alias="but not to", description="Whom it leaves out.")
    when: WhenShape | None = Field(None, description="In which circumstances.")
    because: Words = Field(description="The reason.")


class SituationShape(Shape):
    """A named set of circumstances."""

    address: Words = Field("", description="The IP address that somebody comes from; none, when left out.")
    multi_factor: YesNo = Field(False, alias="multi-factor", description="Whether a second factor was used.")
    method: Words = Field("", alias="signed in by", description="The way to sign in; unknown, when left out.")
    moment: Moment | None = Field(
        None, alias="at time", description="Such as 2026-11-25 23:30, in the estate's time zone."
    )
    managed_device: YesNo = Field(
        False, alias="on a managed device", description="Whether the device is one that the organisation looks after."
    )
    signed_in_ago: SpanOfTime = Field(
        "", alias="signed in ago", description="How long ago they proved who they are; unknown, when left out."
    )


class ExpectationShape(Shape):
    """A statement of what must hold."""

    user: Words | None = Field(None, description="This user may, or may not.")
    only: Annotated[str, StringConstraints(pattern=OF_GROUP)] | None = Field(
        None, description="`group NAME`: nobody outside it may."
    )
    at_most: Annotated[int, Field(ge=0, le=1_000_000_000_000)] | None = Field(
        None, alias="at most", description="No more people than this may."
    )
    nobody_may_both: Many | None = Field(
        None, alias="nobody may both", description="Two or more actions (or `ACTION at SCOPE`) that must stay apart."
    )
    may: Many | None = Field(None, description="One or more actions.")
    may_not: Many | None = Field(None, alias="may not", description="One or more actions.")
    at: Words | None = Field(None, description="The address of a scope.")
    anywhere_in: Words | None = Field(None, alias="anywhere in", description="A scope, with all that it covers.")
    everywhere_in: Words | None = Field(
        None, alias="everywhere in", description="For `user` + `may`: each place that a scope covers."
    )
    situation: Words | None = Field(
        None, alias="in", description="The situation in which it is judged; all circumstances, when left out."
    )
    because: Words = Field("", description="Why it must hold.")

    @model_validator(mode="after")
    def _one_sentence(self) -> ExpectationShape:
        """The keys must make one of the five sentences."""
        keys = {type(self).model_fields[name].alias or name for name in self.model_fields_set} - {"because", "in"}
        place = keys & {"at", "anywhere in", "everywhere in"}
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
        if "everywhere in" in keys and claim != {"user", "may"}:
            raise PydanticCustomError("everywhere", "only `user` + `may` can say `everywhere in`")
        return self

    @property
    def placed(self) -> tuple[str, str] | None:
        """How it says its one place, and the scope; None if each duty says its own."""
        said = (("at", self.at), ("anywhere in", self.anywhere_in), ("everywhere in", self.everywhere_in))
        return next(((key, scope) for key, scope in said if scope is not None), None)


Bindings = Annotated[tuple[BindingShape, ...], Field(description="Who is given which role where, and why.")]
Expectations = Annotated[
    tuple[ExpectationShape, ...], Field(description="What must hold; `justlane verify` proves it.")
]
Roles = Annotated[dict[Name, RoleShape], Field(description="Named sets of actions.")]


class FileWithBindings(Shape):
    """What every file may hold besides its own sections, except those with roles."""

    bindings: Bindings = ()
    bundles: dict[Name, BundleShape] = Field({}, description="Roles at scopes that are bound together.")
    situations: dict[Name, SituationShape] = Field({}, description="Named sets of circumstances.")
    expectations: Expectations = ()


class BreakGlassShape(Shape):
    """An account for the day on which nothing else works."""

    account: Annotated[str, StringConstraints(pattern=OF_USER, strip_whitespace=True)] = Field(
        description="`user NAME`."
    )
    networks: Many = Field((), alias="from network", description="From where alone it may do anything at all (CIDR).")
    methods: Many = Field((), alias="signed in by", description="Ways to sign in by which alone it may do anything.")
    because: Words = Field("", description="Where its secret lies, and who may take it out.")


def _break_glass(value: Any) -> Any:
    some = value if isinstance(value, list) else [value]
    return [{"account": item} if isinstance(item, str) else item for item in some]


BreakGlass = Annotated[
    tuple[BreakGlassShape, ...],
    BeforeValidator(_break_glass, json_schema_input_type=str | BreakGlassShape | list[str | BreakGlassShape]),
]


class RuleShape(BaseModel):
    """How much the findings of a rule weigh, and the rule's own options."""

    model_config = ConfigDict(extra="allow", frozen=True)
    __pydantic_extra__: dict[str, Many]

    severity: Literal["error", "warning", "note", "none"] | None = Field(
        None, description="How bad such a finding is; `none` for a rule that is not asked."
    )


def _weighed(value: Any) -> Any:
    return {"severity": value} if isinstance(value, str) else value


class AcceptedShape(Shape):
    """Findings that are known, and accepted until a day."""

    finding: Words = Field(description="The rule that finds them.")
    about: Many = Field((), description="What they are about: scopes, roles, `group NAME`, `user NAME`; * matches.")
    because: Words = Field(description="Why that is accepted.")
    last_day: date = Field(alias="until", description="The last day on which it is.")


class EstateFile(FileWithBindings):
    """The root file of an estate, `estate.yaml`."""

    estate: Words = Field(description="The estate's name.")
    purpose: Words = Field("", alias="for", description="What it is for.")
    time_zone: Words = Field("UTC", alias="time zone", description="An IANA time zone, such as Europe/Amsterdam.")
    directories: dict[Name, DirectoryShape] = Field(description="Where people and groups come from.")
    people: PeopleShape = Field(unsaid(PeopleShape), description="How old the picture of the people may be.")
    break_glass: BreakGlass = Field(
        (), alias="break-glass", description="Accounts for the day on which nothing else works."
    )
    acting_as: Words = Field("", alias="acting as", description="The login of whoever edits this estate.")
    owners: dict[Annotated[str, StringConstraints(pattern=OF_GROUP)], NamedPrincipal] = Field(
        {}, description="Who answers for a group of the directory."
    )
    findings: dict[Words, Annotated[RuleShape, BeforeValidator(_weighed, json_schema_input_type=str | RuleShape)]] = (
        Field({}, description="What `check` looks for: rules, each with its severity and options.")
    )
    accepted: tuple[AcceptedShape, ...] = Field((), description="Findings that are accepted until a day.")
    include: Many = Field((), description="The other files, relative to the folder; * matches in file names.")


class AdministrationShape(Shape):
    """What it takes to administer a platform."""

    actions: Many = Field(description="Its actions, or patterns with *.")
    at_most: Annotated[int, Field(ge=0, le=1_000_000_000)] | None = Field(
        None, alias="at most", description="How many people may hold all of it."
    )


class SettingsShape(Shape):
    """Settings that a platform takes from a group, or from the person."""

    to: ManyPrincipals = Field(description="`group NAME`, `local group NAME` or `user NAME`.")
    brings: dict[Words, Value] = Field(description="Each setting with its value.")
    kept: YesNo = Field(False, description="Of a user's own: whether they stay, whatever the groups bring.")


class PlatformFile(FileWithBindings):
    """A file that declares one platform."""

    platform: Name = Field(description="The platform's name: addresses of its scopes start with it.")
    purpose: Words = Field("", alias="for", description="What it is for.")
    owner: NamedPrincipal | None = Field(None, description="Who answers for it: `user NAME` or `group NAME`.")
    habits: HabitsShape = Field(
        HabitsShape.model_validate({"decides": Decides.ANY_ALLOW}),
        description="How it decides; said before anybody relies on an answer.",
    )
    reached_by: ConnectionShape | None = Field(None, alias="reached by")
    manages: ManagesShape | None = None
    accounts: AccountsShape | None = None
    actions: dict[Name, ActionShape] = Field({}, description="What can be done on it, in its own words.")
    administration: AdministrationShape | None = Field(None, description="What it takes to administer it.")
    scopes: dict[ScopeName, AnyScope] = Field({}, description="The tree of places.")
    roles: dict[Name, RoleShape] = Field({}, description="Named sets of actions.")
    local_groups: dict[Name, LocalGroupShape] = Field({}, alias="local groups", description="Groups of its own.")
    published: tuple[PublishedShape, ...] = Field((), description="Where groups count.")
    ceilings: tuple[CeilingShape, ...] = Field((), description="What is never granted.")
    settings: tuple[SettingsShape, ...] = Field((), description="What groups bring besides roles; the first wins.")


class RolesFile(Shape):
    """A file with roles of one platform."""

    roles_for: Name = Field(alias="roles for", description="The platform's name.")
    roles: Roles


class OnlyShape(Shape):
    """What a delegate's file may touch."""

    scopes: Many = Field(description="Addresses: these scopes, and what they contain.")
    roles: Many = Field(description="The roles that may be given.")
    actions: Many = Field((), description="What these roles may hold at most, names or patterns.")
    groups: Many = Field(description="To whom: names of groups, or `local group NAME`, `user NAME`.")
    by: NamedPrincipal = Field(description="Whose file it is: `user NAME` or `group NAME`.")


class BindingsFile(FileWithBindings):
    """A file with bindings."""

    only: OnlyShape | None = Field(None, description="For a delegate's file: what it may touch.")
    bindings: Bindings


class ExpectationsFile(FileWithBindings):
    """A file with expectations."""

    expectations: Expectations


class BundlesFile(FileWithBindings):
    """A file with bundles."""

    bundles: dict[Name, BundleShape] = Field(description="Roles at scopes that are bound together.")


class SituationsFile(FileWithBindings):
    """A file with situations."""

    situations: dict[Name, SituationShape] = Field(description="Named sets of circumstances.")


FILE_KINDS: dict[str, type[Shape]] = {
    "estate": EstateFile,
    "platform": PlatformFile,
    "roles for": RolesFile,
    "bindings": BindingsFile,
    "expectations": ExpectationsFile,
    "bundles": BundlesFile,
    "situations": SituationsFile,
}
"""Each kind of file, by the key that it is recognised by, in the order in which they are looked for."""
