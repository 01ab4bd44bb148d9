"""What the terminal is like, and how errors are shown on it."""

from __future__ import annotations

import os
import sys
from typing import Any

import click

from justlane.model.errors import EstateError, JustLaneError
from justlane.reports.interface import Look, present

_STYLES: dict[str, dict[str, Any]] = {
    "yes": {"fg": "green", "bold": True},
    "no": {"fg": "red", "bold": True},
    "warn": {"fg": "yellow"},
    "name": {"fg": "cyan"},
    "head": {"bold": True},
    "dim": {"fg": "bright_black"},
    "tree": {"fg": "bright_black"},
}
_WIDTH_OF_FILES = 100


def paint(text: str, style: str) -> str:
    """Text in one of the styles; Click takes the colours out where there is no terminal."""
    return click.style(text, **_STYLES[style])


def plain(text: str, style: str) -> str:
    """Text without any style."""
    return text


def look(*, err: bool = False) -> Look:
    """How text is to look on standard output, or on standard error."""
    stream = sys.stderr if err else sys.stdout
    if not stream.isatty():
        return Look(_WIDTH_OF_FILES, plain)
    from shutil import get_terminal_size

    return Look(get_terminal_size().columns, paint)


def show(kind: str, result: Any, form: str) -> None:
    """Write a result to standard output in one of the formats."""
    click.echo(present(kind, result, form, look()), nl=False)


def say(text: str) -> None:
    """A remark, on standard error."""
    click.echo(text, err=True)


def warn(text: str) -> None:
    """Something worth knowing, on standard error."""
    click.echo(f"{look(err=True).paint('warning:', 'warn')} {text}", err=True)


def complain(message: str, hint: str) -> None:
    """An error, and what to do, on standard error."""
    painter = look(err=True).paint
    click.echo(f"{painter('error:', 'no')} {message}", err=True)
    if hint:
        click.echo(f"  {painter('→', 'dim')} {hint}", err=True)


def confess(error: Exception) -> None:
    """A mistake of ours: say so in one line; the details go to whoever asks for them."""
    if "JUSTLANE_DETAILS" in os.environ:
        import traceback

        traceback.print_exception(error)
    hint = "please report it, with what JUSTLANE_DETAILS=1 prints when you run it again"
    complain(f"this is a mistake in justlane itself: {type(error).__name__}: {error}", hint)


def explain(error: JustLaneError) -> None:
    """Show one of our errors; a wrong estate with everything that is wrong in it."""
    if isinstance(error, EstateError):
        from justlane.reports.findings import listed

        click.echo(listed(error.findings, look(err=True)), err=True, nl=False)
    complain(error.message, error.hint or ("correct them, then try again" if isinstance(error, EstateError) else ""))
