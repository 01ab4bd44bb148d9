"""`probe`: try, as the people, whether a platform really does what is declared."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from secrets import randbelow
from typing import TYPE_CHECKING, NamedTuple

import click
import msgspec

from justlane.cli.common import arguments, options
from justlane.cli.common.circumstances import circumstance_options
from justlane.cli.common.options import typed
from justlane.cli.common.permission import ask_person
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.common.terminal import say, show
from justlane.engine.decision.judge import Question
from justlane.engine.facts.index import EstateIndex
from justlane.jobs import known
from justlane.jobs.circumstances import FIXING, now, question
from justlane.model.circumstances import Circumstances, Situation
from justlane.model.errors import InterruptedRunError, OutsideError, UsageError
from justlane.model.estate import RolesHeld
from justlane.model.names import counted

if TYPE_CHECKING:
    from justlane.model.estate import Platform
    from justlane.platforms.interface import Connector
    from justlane.platforms.proof.choice import Chosen
    from justlane.platforms.proof.probe import ProbeResult

_SAMPLE = 20
_MOST_SEED = 1_000_000
_MANY_CELLS = 2_000_000


@dataclass(frozen=True, kw_only=True)
class ProbeOptions(Circumstances):
    """What `probe` is given."""

    everyone: bool
    sample: int | None
    seed: int | None
    in_each: bool
    at_once: int
    at_most: int | None
    afresh: bool


@click.command()
@arguments.platform_argument
@options.estate_option
@circumstance_options
@options.format_option("text", "json", "csv", "junit")
@click.option(
    "--tries",
    type=click.IntRange(1),
    default=1,
    show_default=True,
    help="Try each action at so many places with a yes and with a no.",
)
@click.option("--everyone", is_flag=True, help="Ask as every person at every scope, not as one of each kind.")
@click.option("--thorough", is_flag=True, help="Try every action at every scope, as every person.")
@click.option(
    "--sample",
    type=click.IntRange(0),
    help=f"So many more people and scopes, besides one of each kind ({_SAMPLE}).",
)
@click.option("--seed", type=click.IntRange(0), help="Draw the same people and scopes again.")
@click.option(
    "--in-each",
    is_flag=True,
    help="In each situation that the estate names, and in each role where one counts at a time.",
)
@click.option(
    "--at-once", type=click.IntRange(1, 64), default=4, show_default=True, help="As so many people at the same time."
)
@click.option(
    "--at-most", type=click.IntRange(1), help="Of so many kinds of people and of scopes, drawn, where there are more."
)
@click.option("--afresh", is_flag=True, help="Do not go on with a probe that was stopped.")
@click.pass_context
@typed(ProbeOptions)
def probe(
    ctx: click.Context,
    /,
    platform: str,
    folder: Path | None,
    form: str,
    tries: int,
    thorough: bool,
    given: ProbeOptions,
) -> None:
    """Try, as the people, whether PLATFORM really does what is declared.

    As one person of each kind (people who ought to get the same), and some more, the platform is asked about every
    action at one scope of each kind, and some more. Then it is really tried: signed in as the person, each action at a
    place where it is declared and at one where it is not (others for each person), and wherever the answers differ.
    Reports what people get beyond what is declared, and what they do not get.

    \b
    Examples:
      justlane probe fieldnet
      justlane probe fieldnet --everyone

    It is tried in one situation: the one that the options name, or without an address, a second factor and a known
    way to sign in, now; or with --in-each in all that the estate names. Only what leaves nothing behind is tried: what
    there is no such trial of is asked about, and the result says so.

    Stopped half-way, the same command goes on where it stopped. Each result is kept, and the next one says what is new.

    Ends with 0 if there is no difference, 1 if there is one.
    """
    from justlane.platforms.alignment.plan import refuse_beyond
    from justlane.platforms.interface import dialect_of
    from justlane.platforms.proof import kept_probes

    index = options.open_estate(folder, whole=True)
    estate = index.estate
    declared = estate.platforms[known.platform_named(estate, platform)]
    place = options.folder_of(folder)
    choosing, at_once, afresh = _choosing(given, thorough), given.at_once, given.afresh
    refuse_beyond(index, platform)
    if dialect_of(declared).by_people:
        choosing, at_once, afresh = _for_a_form(choosing), 1, True
    progress = TerminalProgress()
    index, unjudged = _as_it_stands(index, platform, place)
    declared = index.estate.platforms[platform]
    try:
        asked = question(estate, given, platform)
        asked = msgspec.structs.replace(asked, situation=asked.situation or Situation())
        named = _in_each(index, platform, asked, given) if given.in_each else [("", asked)]
        chosen = _chosen(index, platform, asked, place, choosing, afresh=afresh)
        _tell_size(chosen, len(estate.platforms[platform].actions), len(named))
        job = _Job(index, place, declared, chosen, tuple(named), None if thorough else tries, at_once, afresh)
        result = job.probed(progress)
    except KeyboardInterrupt:
        done = f"after {progress.done} of {progress.total} people" if progress.total else "before it began"
        hint = "run it again: it goes on from there"
        raise InterruptedRunError(f"stopped {done}: nothing is proved", hint) from None
    result = msgspec.structs.replace(result, news=kept_probes.news(place, result), unjudged=unjudged)
    kept_probes.keep(place, result, now())
    show("ProbeResult", result, form)
    ctx.exit(0 if result.clean else 1)


def _as_it_stands(index: EstateIndex, platform: str, place: Path) -> tuple[EstateIndex, tuple[str, ...]]:
    """The estate as the platform knows people, with the places that it has since, and what cannot be judged there."""
    from justlane.engine.facts.account_names import in_accounts
    from justlane.platforms.alignment.new_places import with_new_places
    from justlane.platforms.interface import dialect_of, read_platform
    from justlane.platforms.managed import without_gone

    index = in_accounts(index, platform)
    declared = index.estate.platforms[platform]
    try:
        reading = read_platform(declared, place, ask_person)
    except OutsideError as error:
        if not dialect_of(declared).by_people:
            raise
        return index, (f"{error}: a form can be made all the same",)
    index, places = with_new_places(index, platform, reading)
    if places:
        from justlane.reports.platforms.plan import of_new_places

        say(of_new_places(len(places)))
    dialect = dialect_of(declared)
    return index, dialect.unjudged(index, platform, without_gone(declared, dialect, reading))


def _tell_size(chosen: Chosen, actions: int, situations: int) -> None:
    """Before something that takes long: how much it is."""
    cells = len(chosen.people) * len(chosen.scopes) * actions * situations
    if cells > _MANY_CELLS:
        people, scopes = counted(len(chosen.people), "person", "people"), counted(len(chosen.scopes), "scope")
        said = f"{people} at {scopes}: up to {cells:,} answers; the bar says how long that takes"
        say(f"{said}. --at-most N draws fewer" if chosen.coverage.kinds_of_people else said)


class _Job(NamedTuple):
    """A probe with all that is decided about it."""

    estate: EstateIndex
    place: Path
    platform: Platform
    chosen: Chosen
    named: tuple[tuple[str, Question], ...]
    tries: int | None
    at_once: int
    afresh: bool

    def probed(self, progress: TerminalProgress) -> ProbeResult:
        """Probe, or go on with what was stopped; on paper, write the form of what is to be tried."""
        from justlane.files.reading.named_files import digest_of
        from justlane.platforms.interface import connect, dialect_of
        from justlane.platforms.proof import kept_probes, probe

        name, dialect = self.platform.name, dialect_of(self.platform)
        wanted = dialect.declared(self.estate, name, now()).parts
        about = digest_of(msgspec.json.encode([wanted, self.tries]))
        under_way = kept_probes.UnderWay(self.place, name, self.chosen, self.named, about)
        known = {} if self.afresh else under_way.known()
        if known:
            say(f"going on with the probe that was stopped: {counted(len(known), 'person', 'people')} done")
        else:
            under_way.begin()
        opened: list[Connector] = []

        def connected() -> Connector:
            opened.append(connect(self.platform, self.place, ask_person))
            return opened[-1]

        result = probe.probe(
            self.estate, name, connected, progress, self.named, self.chosen, self.tries, self.at_once, known,
            under_way.add,
        )  # fmt: skip
        under_way.end()
        return _with_form(self.place, name, opened[0], result) if dialect.by_people else result


def _for_a_form(choosing: _Choosing) -> _Choosing:
    """The same people and scopes every time, and few of them: somebody has to try it all by hand."""
    return choosing if choosing.everyone else choosing._replace(sample=choosing.sample or 0, seed=0)


def _with_form(place: Path, name: str, connector: Connector, result: ProbeResult) -> ProbeResult:
    from justlane.platforms.sheet.paper import Paper, write_form

    assert isinstance(connector, Paper)
    form = write_form(place, name, connector)
    if left := connector.unanswered:
        say(f"{counted(left, 'trial')} without an answer: fill in `happened` in {form}, then run it again")
    return msgspec.structs.replace(result, unanswered=connector.unanswered)


def _in_each(index: EstateIndex, platform: str, asked: Question, given: ProbeOptions) -> list[tuple[str, Question]]:
    """The question in every situation that the estate names, and none; and in every role that a binding gives there.

    UsageError if the options name one situation already.
    """
    if any(getattr(given, name) is not None for name in (*FIXING, "as_role")):
        raise UsageError("--in-each goes through all situations, and another option names one", "leave one of them out")
    prepared = index.platform(platform)
    single = prepared.platform.habits.roles_held is RolesHeld.ONE_AT_A_TIME
    roles = ["", *dict.fromkeys(b.acting for b in prepared.bindings if b.allows and not b.built_in)] if single else [""]
    found: list[tuple[str, Question]] = []
    for name, situation in {"": Situation(), **index.estate.situations}.items():
        for role in roles:
            said = ", ".join(part for part in (f"in {name}" if name else "", f"as {role}" if role else "") if part)
            found.append((said, msgspec.structs.replace(asked, situation=situation, role=role)))
    return found


def _choosing(given: ProbeOptions, thorough: bool) -> _Choosing:
    """The options about whom and where. UsageError if they contradict each other."""
    choosing = _Choosing(given.everyone or thorough, given.sample, given.seed, given.at_most)
    for name in ("sample", "seed", "at_most"):
        if choosing.everyone and getattr(choosing, name) is not None:
            all_ = "thorough" if thorough else "everyone"
            raise UsageError(
                f"--{name.replace('_', '-')} draws some people, and --{all_} goes through all", "leave one of them out"
            )
    return choosing


class _Choosing(NamedTuple):
    """Whom and where the options mean."""

    everyone: bool
    sample: int | None
    seed: int | None
    at_most: int | None


def _chosen(
    index: EstateIndex, platform: str, asked: Question, place: Path, choosing: _Choosing, *, afresh: bool
) -> Chosen:
    """Whom the options mean; without a seed, that of a probe that was stopped, or one is drawn."""
    from justlane.platforms.proof import kept_probes
    from justlane.platforms.proof.choice import everybody, one_of_each_kind

    seed, sample = choosing.seed, choosing.sample
    if choosing.everyone:
        return everybody(index, platform)
    if seed is None:
        seed = (None if afresh else kept_probes.seed_under_way(place, platform)) or randbelow(_MOST_SEED)
    return one_of_each_kind(index, platform, asked, _SAMPLE if sample is None else sample, seed, choosing.at_most)
