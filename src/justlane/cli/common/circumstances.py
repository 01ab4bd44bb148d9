"""The options that say in which circumstances a question is asked."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import click

from justlane.model.circumstances import FACTS

Command = TypeVar("Command", bound=Callable[..., object])

_OPTIONS = (
    click.option("--situation", metavar="NAME", help="In a situation that the estate declares."),
    *(
        click.option(fact.option, metavar=fact.metavar, help=fact.help)
        if fact.metavar
        else click.option(f"{fact.option}/--no-{fact.option[2:]}", default=None, help=fact.help)
        for fact in FACTS
    ),
    click.option(
        "--at-time",
        metavar="TIME",
        help="At this time, such as '2026-11-25 23:30', in the estate's time zone. A day alone sets only the day on "
        "which dates are judged.",
    ),
    click.option("--as-role", metavar="ROLE", help="In this role, where people act in one role at a time."),
)

day_option = click.option("--at-time", metavar="TIME", help="Dates are judged on this day, instead of today.")


def circumstance_options(command: Command) -> Command:
    """Add the options; the command gets the parameters `NAMES` of `jobs.circumstances` and hands them to `question`."""
    for option in reversed(_OPTIONS):
        command = option(command)
    return command
