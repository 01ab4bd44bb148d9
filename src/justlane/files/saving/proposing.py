"""An edit before it is saved: which lines change, who gains and loses what by it, and what speaks against it.

The estate after the edit is read from the changed text, as it will be read from now on, and compared with the estate
as it is: what is shown is what happens.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

from msgspec import Struct

from justlane.engine.changes.comparison import Alike, Differences, differences
from justlane.engine.changes.effect import Effect, summed
from justlane.engine.changes.guards import Refusal, refusals
from justlane.engine.changes.remarks import Remark
from justlane.engine.decision.deciding import Question
from justlane.engine.facts.index import EstateIndex
from justlane.engine.surveys.delegates import confined_to
from justlane.files.editing.draft import Changed, Draft
from justlane.files.loaded import Loaded
from justlane.files.people.populating import PeopleReader
from justlane.files.saving.saving import require_read
from justlane.files.saving.staging import loaded_with
from justlane.model.errors import RefusedError
from justlane.model.findings import Finding, Severity

MOST_SHOWN = 5_000
"""Up to so many cells are shown one by one, person by person."""

About = Callable[[EstateIndex], Iterable[Remark]]
"""What there is to say about an edit, given the estate after it."""


class Proposal(Struct, frozen=True):
    """An edit, with all that is to be looked at before it is saved."""

    command: str
    changes: tuple[Changed, ...]
    effect: Effect
    groups: tuple[Alike, ...] | None
    """Those for whom the same changes, together; None where it is too much to be shown."""
    remarks: tuple[Remark, ...]
    refusals: tuple[Refusal, ...]
    warnings: tuple[Finding, ...]
    """What `check` would say of the estate afterwards and does not say today."""


def propose(
    draft: Draft,
    before: EstateIndex,
    question: Question,
    read_people: PeopleReader,
    *,
    command: str,
    acting: str | None,
    about: About = lambda after: (),
    moved: Mapping[str, str] | None = None,
) -> tuple[Proposal, Loaded | None]:
    """Look at a draft; what reading the estate after it gave comes along (None if nothing changes). RefusedError if the
    estate would not be sound any more.

    `moved` names places that have another address afterwards: they stay themselves.
    """
    changes = tuple(draft.changes)
    if not changes:
        nothing = summed(Differences([], []))
        return Proposal(command, (), nothing, (), tuple(about(before)), (), ()), None
    require_read(draft.folder, changes)
    _require_own(before, [change.file for change in changes], acting, question)
    loaded = loaded_with(draft.folder, changes, read_people, draft.windows)
    _require_sound(loaded.findings)
    assert loaded.estate is not None
    after = before.with_other_bindings(loaded.estate) if loaded.resumed_from else loaded.ready
    found = differences((before, after), Question(question.moment, day=question.dated), moved=moved)
    effect = summed(found)
    shown = effect.gained + effect.lost <= MOST_SHOWN
    groups = (
        sorted(found.groups(), key=lambda g: (not g.changes[0].sensitive, -len(g.users), g.users)) if shown else None
    )
    known = {(finding.rule, finding.message) for finding in before.estate.findings}
    warnings = tuple(f for f in loaded.findings if (f.rule, f.message) not in known)
    against = tuple(refusals(before, after, found, acting, question, moved))
    remarks = tuple(about(after))
    shown_groups = None if groups is None else tuple(groups)
    return Proposal(command, changes, effect, shown_groups, remarks, against, warnings), loaded


def _require_own(index: EstateIndex, files: Sequence[str], acting: str | None, question: Question) -> None:
    """RefusedError where a delegate would write into somebody else's file."""
    own = {delegation.file for delegation in confined_to(index, acting, question)}
    others = [file for file in files if own and file not in own]
    if others:
        message = f"you, {acting}, may only write in {' and '.join(sorted(own))}, and this would change {others[0]}"
        raise RefusedError(message, "ask the estate's keepers; nothing was changed")


def _require_sound(findings: Iterable[Finding]) -> None:
    errors = [finding for finding in findings if finding.severity is Severity.ERROR]
    if errors:
        more = f" (and {len(errors) - 1} more)" if len(errors) > 1 else ""
        message = f"the estate would not be sound after this edit: {errors[0].source}: {errors[0].message}{more}"
        raise RefusedError(message, errors[0].hint or "nothing was changed")


def acting_person(index: EstateIndex, named: str, system: str) -> str | None:
    """The login of whoever makes an edit: as it was named, as the estate says, or as the system knows them; None if the
    directory does not know that one."""
    if named:
        return named
    if index.estate.acting_as:
        return index.estate.acting_as
    return system if system in index.estate.directory.users else None
