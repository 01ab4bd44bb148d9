"""`check` and `verify`: is the estate sound, and does it say what was meant?"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import click

from justlane.cli.common import options
from justlane.cli.common.consent import because_option
from justlane.cli.common.options import EditingOptions, typed
from justlane.cli.common.progress import TerminalProgress
from justlane.cli.common.terminal import say, show, tell
from justlane.directories.interface import read_people
from justlane.jobs.circumstances import now
from justlane.model.errors import UsageError
from justlane.model.findings import Severity
from justlane.model.names import did_you_mean

if TYPE_CHECKING:
    from justlane.reports.checks.checked import Checked


def _about(ctx: click.Context, param: click.Parameter, name: str | None) -> None:
    """Show one rule's page and stop."""
    if name is None or ctx.resilient_parsing:
        return
    from justlane.reports.checks.rules import page

    tell(page(name).strip())
    ctx.exit(0)


def _rules() -> list[str]:
    from justlane.rules.interface import RULES

    return list(RULES)


class _OneOfTheRules(click.Choice[str]):
    """A rule by its identifier; for one that is unknown the nearest is named rather than all of them."""

    def get_invalid_choice_message(self, value: object, ctx: click.Context | None) -> str:
        """What is said of an unknown one."""
        hint = did_you_mean(str(value), self.choices, "`justlane check --rules` lists them")
        return f"there is no rule {value!r}: {hint}"


_RULE = _OneOfTheRules(_rules())


@dataclass(frozen=True, kw_only=True)
class CheckOptions(EditingOptions):
    """What `check` is given."""

    only: tuple[str, ...]
    since: str | None
    fix: bool
    listed: bool


@click.command()
@options.estate_option
@options.format_option("text", "json", "csv", "sarif", "junit")
@click.option("--only", multiple=True, type=_RULE, metavar="RULE", help="Ask this rule alone; several times.")
@click.option("--since", metavar="REVISION", help="Only what is new since a revision in git, or another folder.")
@click.option("--fix", is_flag=True, help="Mend what can be mended by an edit; shows its effect and asks first.")
@click.option("--rules", "listed", is_flag=True, help="List the rules, their severities and options.")
@click.option(
    "--about", type=_RULE, metavar="RULE", callback=_about, is_eager=True, expose_value=False,
    help="Show the page of one rule, with what passes and what fails.",
)  # fmt: skip
@click.option("--dry-run", is_flag=True, help="With --fix: show what would change, and change nothing.")
@click.option("--yes", is_flag=True, help="With --fix: do not ask.")
@click.option("--even-so", metavar="REASON", default="", help="With --fix: although something speaks against it.")
@click.option("--acting-as", metavar="USER", default="", help="With --fix: who you are in the directory.")
@because_option
@click.pass_context
@typed(CheckOptions)
def check(ctx: click.Context, /, given: CheckOptions) -> None:
    """Is the estate sound: files, names, references, and everything that the rules watch?

    Reports everything that is wrong in one run, with file, line and column, what follows from it in exact numbers, and
    what to do. The estate sets severities and options of rules under `findings`, and says under `accepted` what may
    stay until when. With --fix, what an edit can mend is mended, its effect shown first.

    \b
    Examples:
      justlane check --estate saltmarsh
      justlane check --since main --format sarif > check.sarif
      justlane check --only narrow-beside-wide --fix

    Ends with 0 if it is sound, 1 if there is a warning, 2 if there is an error; notes are no blame.
    """
    from justlane.files.opening.cache import keep
    from justlane.files.opening.load import load
    from justlane.jobs.findings import find_flaws
    from justlane.reports.checks.rules import Rules

    if given.listed:
        show("Rules", Rules(), given.form if given.form in ("text", "json", "csv") else "text")
        ctx.exit(0)
    place = options.folder_of(given.folder)
    loaded = load(place, read_people)
    keep(place, loaded)
    result = find_flaws(place, loaded, read_people, given.only, given.since or "", TerminalProgress())
    if given.fix:
        _mend(ctx, result, given)
    show("Checked", result, given.form)
    bad = result.count(Severity.ERROR) or not result.complete
    ctx.exit(2 if bad else 1 if result.count(Severity.WARNING) else 0)


def _mend(ctx: click.Context, result: Checked, given: CheckOptions) -> None:
    """Carry out the fixes, as one edit."""
    from justlane.cli.common.consent import begun, settle
    from justlane.files.editing.carried_out import carry_out
    from justlane.model.edits import names_in

    if not result.complete or result.count(Severity.ERROR):
        show("Checked", result, given.form)
        ctx.exit(2)
    if given.form not in ("text", "json", "csv"):
        raise UsageError(f"--fix: its effect cannot be shown as {given.form}", "use text, json or csv")
    fixes = [edit for flaw in result.flaws for edit in flaw.fix]
    if not fixes:
        say("nothing here can be mended by an edit")
        show("Checked", result, given.form)
        ctx.exit(1 if result.count(Severity.WARNING) else 0)
    editing = begun(given)
    carry_out(editing.draft, editing.index, fixes)
    reason = (
        given.because.strip()
        or f"Mends what check found: {', '.join(sorted({f.rule for f in result.flaws if f.fix}))}."
    )
    about = [name for f in result.flaws if f.fix for name in f.about] + [
        name for one in fixes for name in names_in(one)
    ]
    settle(ctx, editing, reason=reason, names=tuple(dict.fromkeys(about)), harmless=True)


@click.command()
@options.estate_option
@options.format_option("text", "json", "csv", "junit")
@click.pass_context
def verify(ctx: click.Context, folder: Path | None, form: str) -> None:
    """Do the estate's expectations hold?

    Each one that fails is shown with the facts that break it and the lines behind them.

    \b
    Example:
      justlane verify --format junit > verify.xml

    Ends with 0 if all hold and 1 if one fails.
    """
    from justlane.engine.questions.expectations import verify as verified

    verdicts = verified(options.open_estate(folder), now())
    show("Verdicts", verdicts, form)
    ctx.exit(0 if all(v.holds for v in verdicts) else 1)
