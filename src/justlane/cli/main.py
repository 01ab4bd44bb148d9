"""The `justlane` command: what holds for all its subcommands, and how every failure ends."""

from __future__ import annotations

import os
import sys
from importlib import import_module
from io import TextIOWrapper

import click

from justlane import __version__
from justlane.cli.commands import LaneGroup
from justlane.cli.common import terminal
from justlane.cli.common.interruption import STOPPED, heed
from justlane.model.errors import JustLaneError, StorageError, UsageError


def _colour(ctx: click.Context, param: click.Parameter, wanted: str) -> None:
    terminal.colour(wanted)


def _plain(ctx: click.Context, param: click.Parameter, wanted: bool) -> None:
    if wanted:
        terminal.plainly()


def _pager(ctx: click.Context, param: click.Parameter, wanted: str) -> None:
    terminal.pager(wanted)


@click.command(cls=LaneGroup, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, message="justlane %(version)s")
@click.option(
    "--color",
    type=click.Choice(("auto", "always", "never")),
    default="auto",
    expose_value=False,
    is_eager=True,
    callback=_colour,
    help="Colours: where a terminal is (and NO_COLOR is not set), always, or never.",
)
@click.option(
    "--plain",
    is_flag=True,
    expose_value=False,
    is_eager=True,
    callback=_plain,
    help="For screen readers: nothing drawn, row after row, no colours (also JUSTLANE_PLAIN=1).",
)
@click.option(
    "--pager", type=click.Choice(("auto", "never")), default="auto", expose_value=False, is_eager=True,
    callback=_pager, help="Long output on a terminal through a pager (PAGER, less), or never.",
)  # fmt: skip
def main() -> None:
    """Declare who may do what where, ask why, make platforms match, and prove it by trying.

    Everything is declared in plain files in one folder, the estate. Start with `justlane demo`, or with
    `justlane new FOLDER`.

    Exit codes: 0 yes, holds, nothing to do. 1 no, findings, differences. 2 wrong use or a wrong estate.
    3 something outside failed, or the work was stopped half-way.
    4 a mistake in justlane itself.
    """


def run() -> None:
    """Run the command line; every error ends in a message and an exit code, never in a traceback."""
    _as_text()
    os.umask(os.umask(0o077) | 0o002)  # whatever is made, not everybody may write there
    heed()
    try:
        code = _outcome()
    except StorageError as error:  # the answer could not be written
        terminal.explain(error)
        code = error.exit_code
    except KeyboardInterrupt:
        code = STOPPED
    sys.exit(code)


def _as_text() -> None:
    """Whatever encoding the terminal has, no sign makes the program fail."""
    for stream in (sys.stdout, sys.stderr):
        if isinstance(stream, TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")


def _typed() -> str:
    """The command that was typed, for an error of which Click does not say where it belongs."""
    command: click.Command | None = main
    context, words = click.Context(main), ["justlane"]
    for word in sys.argv[1:]:
        if isinstance(command, click.Group) and word in command.list_commands(context):
            command = command.get_command(context, word)
            words.append(word)
    return " ".join(words)


def _outcome() -> int:
    try:
        if "_JUSTLANE_COMPLETE" in os.environ:
            import_module("justlane.cli.manual")  # which knows how words are completed
        code = main.main(prog_name="justlane", standalone_mode=False)
        return code if isinstance(code, int) else 0
    except click.exceptions.Exit as stop:
        return stop.exit_code
    except (click.Abort, KeyboardInterrupt):
        terminal.complain("stopped", "")
        return STOPPED
    except click.UsageError as error:
        path = error.ctx.command_path if error.ctx else _typed()
        terminal.complain(error.format_message(), f"`{path} --help` shows how it is used")
        return error.exit_code
    except click.ClickException as error:
        terminal.complain(error.format_message(), "")
        return UsageError.exit_code
    except JustLaneError as error:
        terminal.explain(error)
        return error.exit_code
    except BrokenPipeError:  # Click's own words, which nobody wanted to read
        return 0
    except Exception as error:
        terminal.confess(error)
        return terminal.MISTAKE
