"""What a rule is, and the table of those there are.

A rule is a module with an `ID`, a `SEVERITY`, its `OPTIONS`, a function `find` and a docstring that is its page
(`justlane check --about ID`, docs/rules/): what is wrong with it, a sample that passes and one that fails. An estate
sets severities and options under `findings`, and says under `accepted` what is known and may stay until a day.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from importlib import import_module
from typing import Protocol, cast

from msgspec import Struct
from msgspec.structs import replace

from justlane.engine.decision.judge import Question
from justlane.engine.facts.clock import on_clock
from justlane.engine.facts.index import EstateIndex
from justlane.model.errors import UsageError
from justlane.model.findings import Finding, Severity, Source
from justlane.model.names import did_you_mean
from justlane.model.patterns import is_like
from justlane.model.rules import Accepted
from justlane.rules.inspection import Flaw, Inspection, Knowledge, Options, Value

RULES = {
    "administrators-undone": "justlane.rules.administration.administrators_undone",
    "beyond-the-platform": "justlane.rules.platforms.beyond_the_platform",
    "break-glass-anywhere": "justlane.rules.administration.break_glass_anywhere",
    "break-glass-password": "justlane.rules.administration.break_glass_password",
    "built-in-edited": "justlane.rules.roles.built_in_edited",
    "cannot-get-in": "justlane.rules.bindings.cannot_get_in",
    "deny-leaves-more": "justlane.rules.bindings.deny_leaves_more",
    "deny-without-effect": "justlane.rules.bindings.deny_without_effect",
    "disabled-but-bound": "justlane.rules.people.disabled_but_bound",
    "disabled-but-named": "justlane.rules.people.disabled_but_named",
    "duties-in-one-hand": "justlane.rules.people.duties_in_one_hand",
    "editor-locked-out": "justlane.rules.administration.editor_locked_out",
    "everybody-may-sign-in": "justlane.rules.openness.everybody_may_sign_in",
    "everybody-sees": "justlane.rules.openness.everybody_sees",
    "group-without-people": "justlane.rules.people.group_without_people",
    "line-never-decides": "justlane.rules.bindings.line_never_decides",
    "local-group-unused": "justlane.rules.people.local_group_unused",
    "membership-loop": "justlane.rules.people.membership_loop",
    "narrow-beside-wide": "justlane.rules.bindings.narrow_beside_wide",
    "no-purpose": "justlane.rules.roles.no_purpose",
    "nobody-administers": "justlane.rules.administration.nobody_administers",
    "not-published": "justlane.rules.bindings.not_published",
    "open-to-all": "justlane.rules.openness.open_to_all",
    "owner-left": "justlane.rules.people.owner_left",
    "past-its-end": "justlane.rules.bindings.past_its_end",
    "person-beside-group": "justlane.rules.bindings.person_beside_group",
    "person-without-end": "justlane.rules.people.person_without_end",
    "place-names-person": "justlane.rules.style.place_names_person",
    "published-above": "justlane.rules.bindings.published_above",
    "reaches-everybody": "justlane.rules.openness.reaches_everybody",
    "redundant-line": "justlane.rules.bindings.redundant_line",
    "role-like-origin": "justlane.rules.roles.role_like_origin",
    "role-made-of-others": "justlane.rules.roles.role_made_of_others",
    "role-unheld": "justlane.rules.roles.role_unheld",
    "roles-equal": "justlane.rules.roles.roles_equal",
    "sensitive-in-many-hands": "justlane.rules.people.sensitive_in_many_hands",
    "shared-file-names-somebody": "justlane.rules.style.shared_file_names_somebody",
    "too-many-administrators": "justlane.rules.administration.too_many_administrators",
    "too-many-circumstances": "justlane.rules.style.too_many_circumstances",
}
"""Identifier of a rule -> its module."""

ACCEPTED_PAST, ACCEPTED_UNUSED = "accepted-past", "accepted-unused"
"""What is found about the estate's own `accepted`."""


class Rule(Protocol):
    """What a rule's module offers."""

    ID: str
    SEVERITY: Severity | None
    """How bad its findings are; None for a rule that is asked only where an estate sets its severity."""
    OPTIONS: Options
    __doc__: str | None

    def find(self, at: Inspection) -> Iterator[Flaw]:
        """Everything in the estate that the rule warns of."""


class Findings(Struct, frozen=True):
    """All that was found."""

    flaws: tuple[Flaw, ...]
    """By file and line."""
    accepted: tuple[tuple[Flaw, Accepted], ...]
    """What the estate accepts, with the sentence that does."""


def rule(name: str) -> Rule:
    """A rule by its identifier."""
    return cast(Rule, import_module(RULES[name]))


def findings(
    index: EstateIndex, moment: datetime, only: tuple[str, ...] = (), known: Knowledge | None = None
) -> Findings:
    """What the rules have to say, all or some of them, after what reading the files found.

    `only` names rules; none stands for all that the estate wants to be asked.
    """
    shared = known or Knowledge(index, Question(moment))
    wrong, options = _settings(index)
    asked_of = set[str]()
    found = [Flaw(f.rule, f.severity, f.source, f.message, f.hint, f.found, f.instead) for f in index.estate.findings]
    for name in RULES:
        module, setting = rule(name), index.estate.rules.get(name)
        asked = setting.asked and (module.SEVERITY or setting.severity) if setting else module.SEVERITY
        if not (asked or name in only) or (only and name not in only):
            continue
        asked_of.add(name)
        severity = (setting and setting.severity) or module.SEVERITY or Severity.WARNING
        found += _asked(module, Inspection(shared, name, severity, options.get(name, _defaults(module))))
    return _sorted_out(index, moment, [*found, *wrong], asked_of)


def _asked(module: Rule, at: Inspection) -> list[Flaw]:
    """What a rule finds; or that it could not look, which is never a yes."""
    try:
        return list(module.find(at))
    except UsageError as error:
        message = f"{module.ID} could not look at everything: {error.message}"
        return [Flaw(module.ID, Severity.WARNING, Source("estate.yaml"), message, "see the other findings")]


def _defaults(module: Rule) -> dict[str, Value]:
    return {name: option.default for name, option in module.OPTIONS.items()}


def _settings(index: EstateIndex) -> tuple[list[Flaw], dict[str, dict[str, Value]]]:
    """What is wrong with the estate's own settings, and the options of each rule as they are set."""
    wrong: list[Flaw] = []
    found: dict[str, dict[str, Value]] = {}
    for name, setting in index.estate.rules.items():
        if name not in RULES:
            message = f"there is no rule {name!r}"
            hint = did_you_mean(name, RULES, "`justlane check --rules` lists them")
            wrong.append(Flaw("unknown-name", Severity.ERROR, setting.source, message, hint))
            continue
        module = rule(name)
        found[name] = _defaults(module)
        for option, words in setting.options.items():
            at = setting.lines[option]
            if option not in module.OPTIONS:
                known = ", ".join(module.OPTIONS) or "none"
                hint = did_you_mean(option, module.OPTIONS, f"its options: {known}")
                wrong.append(Flaw("unknown-name", Severity.ERROR, at, f"{name} has no option {option!r}", hint))
                continue
            value = module.OPTIONS[option].read(words)
            if value is None:
                said, wanted = ", ".join(words), module.OPTIONS[option].expected
                message = f"{option}: found {said!r}, expected {wanted}"
                wrong.append(Flaw("wrong-value", Severity.ERROR, at, message, "correct it"))
            else:
                found[name][option] = value
    return wrong, found


def _sorted_out(index: EstateIndex, moment: datetime, found: list[Flaw], asked: set[str]) -> Findings:
    """Without what the estate accepts; what it accepts for nothing, or too long, is found too, of rules that were
    asked."""
    today = on_clock(moment, index.estate.time_zone).date()
    left, taken = [], []
    used: set[int] = set()
    for flaw in found:
        match = next((n for n, one in enumerate(index.estate.accepted) if _matches(one, flaw)), None)
        used |= {match} if match is not None else set()
        one = index.estate.accepted[match] if match is not None else None
        if one is not None and one.last_day >= today and flaw.severity is not Severity.ERROR:
            taken.append((flaw, one))
        else:
            left.append(flaw)
    for number, one in enumerate(index.estate.accepted):
        if one.rule in asked or one.rule not in RULES:
            left += _about(one, number in used, one.last_day < today)
    left.sort(key=lambda flaw: (flaw.source, flaw.rule, flaw.message))
    return Findings(tuple(left), tuple(sorted(taken, key=lambda item: item[0].source)))


def _about(one: Accepted, used: bool, past: bool) -> Iterator[Flaw]:
    if one.rule not in RULES:
        hint = did_you_mean(one.rule, RULES, "`justlane check --rules` lists them")
        yield Flaw("unknown-name", Severity.ERROR, one.source, f"there is no rule {one.rule!r}", hint)
    elif past:
        message = f"{one.rule} was accepted until {one.last_day}, and that is past"
        hint = "mend what it accepts, or decide again until when" if used else "take it out: nothing is found any more"
        yield Flaw(ACCEPTED_PAST, Severity.WARNING, one.source, message, hint)
    elif not used:
        message = f"{one.rule} is accepted here, and nothing like it is found"
        yield Flaw(ACCEPTED_UNUSED, Severity.NOTE, one.source, message, "take it out")


def _matches(one: Accepted, flaw: Flaw) -> bool:
    return one.rule == flaw.rule and all(any(is_like(word, name) for name in flaw.about) for word in one.about)


def by_weight(flaw: Flaw) -> Flaw:
    """A finding as it is compared with one of another time: without its place."""
    return replace(flaw, source=replace(flaw.source, line=0, column=0), fix=())


def as_finding(flaw: Flaw) -> Finding:
    """Without what only `check` knows."""
    return Finding(flaw.rule, flaw.severity, flaw.source, flaw.message, flaw.hint, flaw.found, flaw.instead)
