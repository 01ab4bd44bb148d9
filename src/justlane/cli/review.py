"""`review`: owners look through what is given, and say what is to be kept, removed or asked about."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Set
from datetime import UTC
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace

from justlane.cli.common import options
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.consent import Editing, because_option, begun, editing_options, settle
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.terminal import say, show, tell
from justlane.cli.questions.chart import write_file
from justlane.directories.interface import read_people
from justlane.files.disk.identity import who
from justlane.files.history.reviews import DECISIONS, Answered, Asked, Review, keep, name_of, review, reviews, state_of
from justlane.jobs import known
from justlane.jobs.circumstances import now
from justlane.model.edits import Edit, Withdraw, names_in
from justlane.model.errors import RefusedError, UsageError
from justlane.model.names import counted, did_you_mean
from justlane.model.people import Principal, PrincipalKind
from justlane.model.scopes import platform_of

if TYPE_CHECKING:
    from justlane.engine.facts.index import EstateIndex
    from justlane.engine.surveys.review import ReviewedGrant, Seat
    from justlane.files.opening.loaded import Loaded
    from justlane.model.bindings import Binding
    from justlane.model.findings import Source
    from justlane.reports.checks.review_sheets import Returned, SheetRow

_MOST_TOLD = 20


@click.group(name="review", cls=OrderedGroup)
def review_() -> None:
    """Access reviews: a workbook for each owner, checked when it comes back, and turned into edits.

    Who owns what is said in the estate: `owner` of platforms, scopes and roles.
    """


@review_.command(short_help="Write a workbook for each owner.")
@click.argument("into", metavar="FOLDER", type=click.Path(path_type=Path))
@click.option("--owner", "owners", multiple=True, metavar="PRINCIPAL", help="Only for this owner; several times.")
@click.option("--form", type=click.Choice(("xlsx", "csv")), default="xlsx", show_default=True, help="Kind of file.")
@options.estate_option
def out(into: Path, owners: tuple[str, ...], form: str, folder: Path | None) -> None:
    """Write a workbook for each owner of places and roles: who holds what there and why, and what was found about it.

    The owner writes keep, remove or ask into the column decision. A review is bound to the state of the estate from
    which it was made, and is kept in the estate's folder `reviews`.

    \b
    Example:
      justlane review out to-the-owners

    Ends with 0, or with 1 if nobody answers for something that is given.
    """
    from justlane.reports.checks import review_sheets

    place = options.folder_of(folder)
    loaded, index = _loaded(place)
    rows = _asked(place, index)
    mine: dict[Principal, list[ReviewedGrant | Seat]] = {}
    for grant, _ in rows:
        for owner in grant.owners:
            mine.setdefault(owner, []).append(grant)
    wanted = [_owner(index, text) for text in owners] or list(mine)
    said = dict(rows)
    for owner in wanted:
        if owner not in mine:
            raise UsageError(
                f"--owner: {owner} answers for nothing that is given", "`owner` of a scope or a role says who"
            )
        asked = tuple(said[grant] for grant in mine[owner])
        made = now().astimezone(UTC)
        state = state_of(loaded.digests, index.estate.people.name if index.estate.people else "")
        new = Review(name_of(str(owner), made), str(owner), made.isoformat(timespec="seconds"), who(), state, asked)
        keep(place, new)
        content = review_sheets.as_workbook(new) if form == "xlsx" else review_sheets.as_csv(new)
        write_file(into / f"{new.name}.{form}", content)
    _tell_stand_ins(grant for grant, _ in rows)
    nobody = [grant for grant, _ in rows if not grant.owners]
    if nobody:
        said_first = str(said[nobody[0]])
        say(f"nobody answers for {counted(len(nobody), 'grant')}, such as {said_first}: name an `owner`")
    click.get_current_context().exit(1 if nobody else 0)


def _tell_stand_ins(grants: Iterable[ReviewedGrant | Seat]) -> None:
    """Who would answer and is gone, and who is asked instead."""
    asked: dict[tuple[Principal, Principal | None], int] = {}
    for pair in (pair for grant in grants for pair in grant.stand_ins):
        asked[pair] = asked.get(pair, 0) + 1
    for (gone, instead), count in asked.items():
        who = f"{instead} is asked instead" if instead else "nobody stands in for them: name another `owner`"
        say(f"{gone}, who answers for {counted(count, 'grant')}, is gone: {who}")


def _loaded(place: Path) -> tuple[Loaded, EstateIndex]:
    from justlane.files.opening.cache import keep as keep_estate
    from justlane.files.opening.load import load
    from justlane.model.errors import EstateError

    loaded = load(place, read_people)
    if loaded.estate is None:
        raise EstateError(list(loaded.findings))
    keep_estate(place, loaded)
    return loaded, loaded.ready


def _owner(index: EstateIndex, text: str) -> Principal:
    kind, _, name = text.partition(" ")
    if kind not in ("user", "group") or not name:
        kind, name = ("group" if text in index.estate.directory.groups else "user"), text
    known: Mapping[str, object] = index.estate.directory.groups if kind == "group" else index.estate.directory.users
    if name not in known:
        raise UsageError(f"--owner: there is no {kind} {name!r}", did_you_mean(name, list(known)))
    return Principal(PrincipalKind(kind), name)


def _asked(place: Path, index: EstateIndex) -> list[tuple[ReviewedGrant | Seat, Asked]]:
    """Every grant with the row that an owner sees."""
    from justlane.files.history.line_dates import WhenChanged
    from justlane.rules.interface import findings

    by_line: dict[tuple[str, int], list[str]] = {}
    for flaw in findings(index, now()).flaws:
        by_line.setdefault((flaw.source.file, flaw.source.line), []).append(f"{flaw.rule}: {flaw.message}")
    changed = WhenChanged(place, index.estate.bindings)
    return _rows(index, lambda at: (changed.of(at), by_line.get((at.file, at.line), [])))


def _rows(
    index: EstateIndex, beside: Callable[[Source], tuple[str, list[str]]]
) -> list[tuple[ReviewedGrant | Seat, Asked]]:
    """Every grant, and every person in a local group, with when the line was changed and what was found about that."""
    from justlane.engine.decision.judge import Question
    from justlane.engine.surveys.review import grants, seats
    from justlane.reports.checks.review_rows import said_of, said_of_seat

    rows: list[tuple[ReviewedGrant | Seat, Asked]] = []
    seen: set[str] = set()
    for grant in grants(index, Question(now())):
        if grant.key not in seen:  # what stands there twice is asked about once
            seen.add(grant.key)
            rows.append((grant, Asked(grant.key, said_of(grant, *beside(grant.source)))))
    users = index.estate.directory.users
    for seat in seats(index):
        name = users[seat.held.member.name].name if seat.held.member.name in users else ""
        told = said_of_seat(seat, name, index.estate.platforms[seat.platform].purpose, *beside(seat.source))
        rows.append((seat, Asked(seat.key, told)))
    return rows


@review_.command(name="in", short_help="Read what came back, and turn it into edits.")
@click.argument("files", nargs=-1, required=True, metavar="FILE...", type=click.Path(path_type=Path))
@click.option("--by", metavar="USER", default="", help="Who answered; otherwise whoever you are.")
@because_option
@editing_options
@click.pass_context
@typed(EditingOptions)
def in_(ctx: click.Context, /, files: tuple[Path, ...], by: str, given: EditingOptions) -> None:
    """Read workbooks that came back: check them, keep the answers, and take out what is to be removed.

    Nothing is skipped silently: rows that are missing or were added, columns that were changed, and words that are no
    decision are named, and then nothing is taken over. What changed in the estate since is shown. Removals become one
    edit, whose effect is shown first.

    \b
    Example:
      justlane review in to-the-owners/*.xlsx --by imke.vos

    Ends with 0 if it is saved or nothing is to be removed, 1 if it is not saved.
    """
    from justlane.engine.surveys.review import grants, key_of, seats
    from justlane.files.editing.carried_out import carry_out
    from justlane.reports.checks.review_sheets import read

    editing = begun(given)
    place = editing.draft.folder
    person = known.user(editing.index.estate, by) if by else editing.acting or who()
    returned = [(path, read(str(path), _content(path))) for path in files]
    answered = [_checked(place, path, found, person) for path, found in returned]
    for one in answered:
        _require_owner(editing, one, person, given.even_so)
    current: dict[str, list[Binding]] = {}
    for name in editing.index.estate.platforms:
        for binding in editing.index.platform(name).bindings:
            if not binding.built_in:
                current.setdefault(key_of(binding), []).append(binding)
    seated = {seat.key: seat.edit for seat in seats(editing.index)}
    removed = {key for one in answered for key, answer in one.answers.items() if answer.decision == "remove"}
    agreed = {key for one in reviews(place) for key, answer in one.answers.items() if answer.decision == "remove"}
    agreed |= {grant.key for grant in grants(editing.index, editing.question) if not grant.owners}
    for one in answered:
        _tell(one, current.keys() | seated.keys())
        if not given.dry_run:
            keep(place, one)
    removals = [*_removals(current, removed, agreed), *(seated[key] for key in sorted(removed & seated.keys()))]
    carry_out(editing.draft, editing.index, removals)
    names = ", ".join(one.name for one in answered)
    reason = given.because.strip() or f"Review {names}, answered by {person}."
    about = [one.owner for one in answered] + [name for edit in removals for name in names_in(edit)]
    settle(ctx, editing, reason=reason, names=tuple(dict.fromkeys(about)))


def _removals(current: Mapping[str, list[Binding]], removed: set[str], agreed: set[str]) -> list[Edit]:
    """What takes grants out, each of the lines that give one on its own. A bundle goes from all its platforms, once the
    owners of all of them have said so, now or earlier; `agreed` also has what nobody answers for."""
    keys = {id(b): key for key, some in current.items() for b in some}
    bundles: dict[object, list[Binding]] = {}
    for binding in (b for some in current.values() for b in some if b.bundle):
        bundles.setdefault((binding.source, binding.principal, binding.bundle), []).append(binding)
    found: dict[object, list[Binding]] = {}
    for key in sorted(removed & current.keys()):
        for binding in current[key]:
            if not binding.bundle:
                found.setdefault((key, binding.source), []).append(binding)
                continue
            whole = bundles[binding.source, binding.principal, binding.bundle]
            waits = sorted({platform_of(b.scope) for b in whole if keys[id(b)] not in removed | agreed})
            if waits:
                bundle = f"the bundle {binding.bundle} to {binding.principal}"
                say(f"  waits   {bundle} gives on {' and '.join(waits)} too: whoever answers there has not removed it")
            else:
                found.setdefault((binding.source, binding.principal, binding.bundle), whole)
    return [Withdraw(tuple(some)) for some in found.values()]


def _content(path: Path) -> bytes:
    from justlane.files.disk.beneath import read_typed
    from justlane.reports.checks.review_sheets import MOST_BYTES

    try:
        return read_typed(path, MOST_BYTES)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}", "name a workbook that came back") from error


def _checked(place: Path, path: Path, found: Returned, person: str) -> Review:
    """The review with the answers of a sheet. UsageError that names everything that is wrong with it."""
    from justlane.reports.checks.review_sheets import altered_column

    known = review(place, found.review)
    asked = {one.key: one for one in known.asked}
    wrong: list[str] = []
    answers = dict(known.answers)
    seen: dict[str, int] = {}
    for row in found.rows:
        key = row.said["row"].strip()
        if key not in asked:
            wrong.append(f"row {row.number} was added: {row.said['role']} to {row.said['given to']}")
            continue
        if key in seen:
            wrong.append(f"row {row.number} repeats row {seen[key]}")
        seen[key] = row.number
        column = altered_column(asked[key], row.said)
        if column:
            wrong.append(f"row {row.number}: the column {column!r} was changed")
        _take(row, key, person, answers, wrong)
    lost = [one for one in known.asked if one.key not in seen]
    wrong += [f"a row is missing: {one}" for one in lost]
    if wrong:
        more = f"; and {len(wrong) - _MOST_TOLD} more" if len(wrong) > _MOST_TOLD else ""
        message = f"{path}: {'; '.join(wrong[:_MOST_TOLD])}{more}"
        raise UsageError(message, "put it back as it went out; nothing was taken over")
    return replace(known, answers=answers)


def _take(row: SheetRow, key: str, person: str, answers: dict[str, Answered], wrong: list[str]) -> None:
    decision = row.said["decision"].strip().lower()
    if not decision:
        return
    if decision not in DECISIONS:
        wrong.append(f"row {row.number}: found {row.said['decision']!r}, expected {', '.join(DECISIONS)}")
        return
    before = answers.get(key)
    comment = row.said["comment"].strip()
    if before is None or (before.decision, before.comment) != (decision, comment):
        answers[key] = Answered(decision, person, now().astimezone(UTC).isoformat(timespec="seconds"), comment)


def _require_owner(editing: Editing, one: Review, person: str, even_so: str) -> None:
    """RefusedError if somebody else answered than whoever was asked."""
    kind, _, name = one.owner.partition(" ")
    index = editing.index
    known = index.estate.directory
    mine = person == name if kind == "user" else name in known.groups and person in index.membership.users_in(name)
    if not mine and not even_so:
        message = f"the review {one.name} went to {one.owner}, and {person} answered"
        raise RefusedError(message, "say who answered with --by, or why it counts all the same with --even-so REASON")


def _tell(one: Review, current: Set[str]) -> None:
    """What came back, what is outstanding, what changed since."""
    count = {word: [a for a in one.asked if _decision(one, a.key) == word] for word in DECISIONS}
    told = ", ".join(f"{word} {len(some)}" for word, some in count.items())
    say(f"{one.name} ({one.owner}): {told}; outstanding {len(one.outstanding)} of {len(one.asked)}")
    for asked in count["ask"]:
        comment = one.answers[asked.key].comment
        say(f"  ask     {asked}: {comment or 'no comment'}")
    for asked in one.asked:
        if asked.key not in current:
            say(f"  since   {asked} is not there any more")


def _decision(one: Review, key: str) -> str:
    return one.answers[key].decision if key in one.answers else ""


@review_.command(short_help="What is outstanding, by whom, and what changed since.")
@options.estate_option
@options.format_option("text", "json", "csv")
@click.pass_context
def status(ctx: click.Context, folder: Path | None, form: str) -> None:
    """What is outstanding, by whom; what was decided; and what changed in the estate since each review was made.

    \b
    Example:
      justlane review status

    Ends with 0 if nothing is outstanding, 1 otherwise.
    """
    from justlane.reports.checks.review_status import ReviewStates, standing_of

    place = options.folder_of(folder)
    _, index = _loaded(place)
    rows = _rows(index, lambda at: ("", []))  # neither is shown here, and both take long
    found = [standing_of(one, rows) for one in reviews(place)]
    show("ReviewStatus", ReviewStates(tuple(found)), form)
    if not found and form == "text":
        tell("no review was given out")
    ctx.exit(1 if any(one.outstanding or one.to_remove for one in found) else 0)
