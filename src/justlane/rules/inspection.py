"""An estate as a rule sees it: everything that several rules want to know is worked out once."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any

from msgspec import Struct

from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex, PlatformIndex
from justlane.engine.facts.people import is_active
from justlane.engine.questions.administrators import Administrators
from justlane.engine.redundancy.spare import Spare, Why, mark_of
from justlane.model.bindings import Binding
from justlane.model.edits import Edit
from justlane.model.findings import Finding, Severity, Source
from justlane.model.names import counted
from justlane.model.people import ANONYMOUS, AUTHENTICATED, Principal
from justlane.model.progress import Progress
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.classes.people_by_name import PeopleByName
    from justlane.engine.redundancy.needs import Needs

Value = int | tuple[str, ...]


class Option(Struct, frozen=True):
    """Something about a rule that an estate can set."""

    default: Value
    meaning: str

    @property
    def expected(self) -> str:
        """What its value is to be."""
        return "a number" if isinstance(self.default, int) else "a name or a list of names"

    def read(self, words: tuple[str, ...]) -> Value | None:
        """The value as it is written; None if it is none."""
        if not isinstance(self.default, int):
            return words
        return int(words[0]) if len(words) == 1 and words[0].isascii() and words[0].isdigit() else None


Options = Mapping[str, Option]


class Flaw(Finding, frozen=True):
    """A finding of a rule."""

    about: tuple[str, ...] = ()
    """What it is about: addresses, roles, principals."""
    consequence: str = ""
    """What follows from it, in exact numbers."""
    fix: tuple[Edit, ...] = ()
    """The edits that mend it; none if a person has to decide."""


class Knowledge:
    """What several rules want to know of an estate."""

    def __init__(self, index: EstateIndex, question: Question, progress: Progress | None = None) -> None:
        self.index, self.question, self._progress = index, question, progress
        self._behind: dict[str, PeopleByName] = {}
        self._spare: dict[str, list[Spare]] = {}
        self._administrators: dict[str, Administrators] = {}
        self._people: dict[str, Mapping[Principal, int]] = {}
        self._gone: dict[str, list[Binding]] = {}
        self._needs: dict[str, Needs] = {}

    def is_active(self, login: str) -> bool:
        """Whether an account may do anything on the day that is judged."""
        return is_active(self.index, login, self.question.dated)

    def why_out(self, login: str) -> str:
        """Why such an account may do nothing, as a clause."""
        account = self.index.estate.directory.users.get(login)
        return "whose account has ended" if account is not None and account.enabled else "whose account is disabled"

    def behind(self, platform: str) -> PeopleByName:
        """Whom all that a platform names stands for."""
        if platform not in self._behind:
            from justlane.engine.classes.people_by_name import PeopleByName

            names = dict.fromkeys([AUTHENTICATED, *sorted(self.index.platform(platform).named)])
            self._behind[platform] = PeopleByName(self.index, platform, self.question.dated, names)
        return self._behind[platform]

    def people(self, principal: Principal, platform: str) -> int:
        """How many people who may sign in a principal stands for; whoever has not signed in is one."""
        if principal == ANONYMOUS:
            return 1
        if platform not in self._people:
            self._people[platform] = self.behind(platform).counts()
        return self._people[platform][principal]

    def spare(self, platform: str) -> list[Spare]:
        """What could be taken out of a platform's lines without changing anything."""
        if platform not in self._spare:
            from justlane.engine.redundancy.spare import spare_everywhere

            self._spare = spare_everywhere(self.index, self.needs, self.question, self._progress or Progress())
        return self._spare[platform]

    def can_go(self, bindings: Sequence[Binding]) -> bool:
        """Whether bindings of one platform can be taken out, after all that other findings take out already, without
        changing anything: what gives nothing to anybody may still close a place that would be open without it."""
        platform = platform_of(bindings[0].scope)
        if any(b.account for b in bindings):
            return False
        needs = self.needs(platform)
        if platform not in self._gone:
            self._gone[platform] = [b for one in self.spare(platform) if one.together for b in one.part.bindings]
        gone = self._gone[platform]
        if all(b in gone for b in bindings):
            return True
        own = [b for b in needs.bindings if b in bindings]
        if needs.changes_anything(own, gone):
            return False
        gone += own
        return True

    def needs(self, platform: str) -> Needs:
        """What each line of a platform is needed for, today."""
        if platform not in self._needs:
            from justlane.engine.redundancy.needs import Needs

            self._needs[platform] = Needs(self.index, platform, self.question)
        return self._needs[platform]

    def administrators(self, platform: str) -> Administrators:
        """Who administers a platform."""
        if platform not in self._administrators:
            from justlane.engine.questions.administrators import administrators

            self._administrators[platform] = administrators(self.index, platform, self.question)
        return self._administrators[platform]


class Inspection:
    """An estate, asked by one rule."""

    def __init__(self, known: Knowledge, rule: str, severity: Severity, options: Mapping[str, Value]) -> None:
        self.known, self._rule, self._severity, self._options = known, rule, severity, options
        self.index, self.estate, self.question = known.index, known.index.estate, known.question

    def number(self, option: str) -> int:
        """An option that is a number."""
        value = self._options[option]
        assert isinstance(value, int)
        return value

    def words(self, option: str) -> tuple[str, ...]:
        """An option that is a list."""
        value = self._options[option]
        assert isinstance(value, tuple)
        return value

    def platforms(self) -> Iterator[PlatformIndex]:
        """All platforms, ready for questions."""
        for name in self.estate.platforms:
            yield self.index.platform(name)

    def flaw(self, source: Source, message: str, hint: str, **more: Any) -> Flaw:
        """A finding of this rule."""
        return Flaw(self._rule, self._severity, source, message, hint, **more)

    def gives_once_enabled(self, binding: Binding) -> str:
        """What a line to a disabled account will give when that is enabled again."""
        return self.gives(binding, people=1).replace("this line gives", "once it is enabled, this line gives")

    def gives(self, binding: Binding, people: int | None = None) -> str:
        """What a line gives, or takes away, in exact numbers."""
        prepared = self.index.platform(binding.scope)
        actions = prepared.platform.actions
        holds = sorted(prepared.roles.holdings(binding.role), key=lambda a: (not actions[a].sensitive, a))
        if not holds:
            return f"{binding.role} holds nothing"
        covered = prepared.coverage.covered(binding.scope)
        places = [at for at in covered if not binding.here_only or prepared.covers(binding, at)]
        kinds = {prepared.platform.scopes[at].kind for at in places}
        held = [action for action in holds if any(actions[action].applies(kind) for kind in kinds)]
        if not held:
            return f"nothing that {binding.role} holds can be done there"
        fit = {kind for kind in kinds if any(actions[action].applies(kind) for action in held)}
        scopes = prepared.platform.scopes
        count = sum(scopes[at].kind in fit and prepared.counts(binding, at) for at in places)
        first = held[0]
        people = self.known.people(binding.principal, prepared.platform.name) if people is None else people
        verb = "gives" if binding.allows else "takes away"
        side = "to" if binding.allows else "from"
        more = f" and {counted(len(held) - 1, 'action')} more" if len(held) > 1 else ""
        whom = counted(people, "person", "people") if binding.principal != ANONYMOUS else "whoever has not signed in"
        return f"this line {verb} {first}{more} {side} {whom} on {counted(count, 'scope')}"


def about(binding: Binding) -> tuple[str, ...]:
    """The names that a finding about a line is about."""
    return (str(binding.principal), binding.role, binding.pattern or binding.scope, platform_of(binding.scope))


def spare_flaws(
    at: Inspection,
    reasons: tuple[Why, ...],
    told: Callable[[Spare], tuple[str, str]],
    *,
    stays: str,
    but_not: Callable[[Spare], bool] = lambda spare: False,
    mends: Callable[[Spare], bool] = lambda spare: True,
) -> Iterator[Flaw]:
    """A finding for each part of a line that changes nothing for one of some reasons.

    `told` gives the message and the lines behind it in words, `stays` what to do where another line has to go first.
    `mends` says whether to take it out is what the rule recommends; otherwise somebody has to decide.
    """
    from justlane.model.edits import Withdraw

    for prepared in at.platforms():
        for spare in at.known.spare(prepared.platform.name):
            if spare.why in reasons and not but_not(spare):
                first = spare.part.bindings[0]
                if first.bundle and not _is_spare_everywhere(at, spare):
                    continue  # it is one thing to take out, and needed elsewhere
                message, hint = told(spare)
                whole = _whole(at, spare)
                fix = (Withdraw(whole),) if spare.together and whole and mends(spare) else ()
                hint = hint if fix or not mends(spare) else stays
                consequence = f"taking it out changes nothing for anybody; {at.gives(first)}"
                yield at.flaw(
                    spare.part.source, message, hint, about=about(first), consequence=consequence,
                    fix=fix,
                )  # fmt: skip


def _is_spare_everywhere(at: Inspection, spare: Spare) -> bool:
    """Whether a bundle changes nothing on any of its platforms; said of the first of them."""
    first = spare.part.bindings[0]
    platforms = sorted(at.estate.bundles[first.bundle])
    marks = [{mark_of(one.part) for one in at.known.spare(platform)} for platform in platforms]
    return platform_of(first.scope) == platforms[0] and all(mark_of(spare.part) in some for some in marks)


def _whole(at: Inspection, spare: Spare) -> tuple[Binding, ...]:
    """All that would be taken out: a bundle goes from all its platforms, or from none."""
    first = spare.part.bindings[0]
    if not first.bundle:
        return spare.part.bindings
    found: list[Binding] = []
    for platform in sorted(at.estate.bundles[first.bundle]):
        same = [
            one
            for one in at.known.spare(platform)
            if one.together and one.part.source == first.source and one.part.principal == first.principal
            and one.part.role == spare.part.role
        ]  # fmt: skip
        if not same:
            return ()
        found += [b for one in same for b in one.part.bindings]
    return tuple(found)


def lines_by_place(bindings: tuple[Binding, ...]) -> str:
    """Lines by what they give and where they stand."""
    return "; ".join(f"{b.role} to {b.principal} at {b.scope} ({b.source.line_address})" for b in bindings)
