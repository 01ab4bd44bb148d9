"""`trust`: what the person has allowed."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import click

from justlane.cli.common import options
from justlane.cli.common.command_group import OrderedGroup
from justlane.cli.common.options import typed
from justlane.cli.common.terminal import say, show
from justlane.files.allowed.permissions import Use, allow, forget, permissions
from justlane.files.disk import beneath
from justlane.model.errors import UsageError


@click.group(cls=OrderedGroup)
def trust() -> None:
    """What you have allowed: which secret may go where, and which files outside an estate may be read.

    An estate is data that others may have written. Before a secret goes somewhere for the first time, you are asked;
    what you answer is kept with your own settings, never in an estate. Scripts say it here.
    """


@trust.command("list", short_help="Everything that is allowed.")
@options.format_option("text", "json", "csv")
def list_(form: str) -> None:
    """Everything that is allowed.

    \b
    Example:
      justlane trust list

    Ends with 0.
    """
    show("Permissions", permissions(), form)


@dataclass(frozen=True, kw_only=True)
class PermissionOptions:
    """What is allowed, or not any more."""

    secret: str | None
    where: str | None
    authority: str | None
    readable: bool
    file: str | None
    changes: str | None


def _what(command: options.Command) -> options.Command:
    for option in reversed(
        (
            click.option("--secret", metavar="PLACE", help="`environment NAME`, `file PATH` or `keyring NAME` …"),
            click.option("--to", "where", metavar="HOST:PORT", help="… may go there."),
            click.option("--authority", metavar="FILE", help="The certificates that are trusted there (PEM)."),
            click.option("--readable", is_flag=True, help="Even though it is not encrypted on the way."),
            click.option("--file", metavar="PATH", help="This file may be read by estates."),
            click.option("--changes", metavar="PATH", help="This file or folder may be read and changed by platforms."),
        )
    ):
        command = option(command)
    return command


@trust.command(short_help="Allow something.")
@_what
@typed(PermissionOptions)
def add(given: PermissionOptions) -> None:
    """Allow that a secret goes somewhere, that a file outside an estate is read, or a place outside it changed.

    \b
    Examples:
      justlane trust add --secret 'environment YARD_TOKEN' --to yard.example:443
      justlane trust add --file exports/people.ldif
      justlane trust add --changes /srv/svn/rules

    Ends with 0.
    """
    use, file, place = _meant(given)
    allow(secret=use, file=file, place=place)
    say("allowed: `justlane trust list` shows it")


@trust.command(short_help="Allow something no more.")
@_what
@typed(PermissionOptions)
def remove(given: PermissionOptions) -> None:
    """Allow something no more: the same words as for `add`.

    \b
    Example:
      justlane trust remove --secret 'environment YARD_TOKEN' --to yard.example:443

    Ends with 0, or with 1 if it was not allowed.
    """
    use, file, place = _meant(given)
    known = permissions()
    forget(secret=use, file=file, place=place)
    there = use in known.secrets or file in known.files or place in known.places
    say("not allowed any more" if there else "that was not allowed")
    click.get_current_context().exit(0 if there else 1)


def _meant(given: PermissionOptions) -> tuple[Use | None, str | None, str | None]:
    """The use, the file and the place that the options describe: one of them."""
    if sum(map(bool, (given.secret, given.file, given.changes))) != 1 or bool(given.secret) != bool(given.where):
        hint = "give --secret PLACE and --to HOST:PORT, or --file PATH alone, or --changes PATH alone"
        raise UsageError("what is meant is not clear", hint)
    use = _use(given.secret, given.where, given.authority, given.readable) if given.secret and given.where else None
    return (
        use,
        os.path.realpath(given.file) if given.file else None,
        os.path.realpath(given.changes) if given.changes else None,
    )


def _use(secret: str, where: str, authority: str | None, readable: bool) -> Use:
    """The use of a secret that the options describe."""
    kind, _, name = secret.partition(" ")
    if kind not in ("environment", "file", "keyring") or not name.strip():
        found = "something else"
        raise UsageError(f"--secret: found {found}", "write `environment NAME`, `file PATH` or `keyring NAME`")
    place = os.path.realpath(name.strip()) if kind == "file" else name.strip()
    host, port = _host(where)
    return Use(f"{kind} {place}", host, port, _authority(authority), readable)


def _host(text: str) -> tuple[str, int]:
    """`host:port` or `[::1]:port`; of a socket its path alone."""
    if text.startswith("/"):
        return text, 0
    host, _, port = text.rpartition(":")
    if not host or not port.isdecimal() or not 0 < int(port[:6]) < 65536 or "/" in host:
        raise UsageError(f"--to: found {text!r}, expected a host and its port", "write it like yard.example:443")
    return host.strip("[]").lower(), int(port)


def _authority(file: str | None) -> str:
    if file is None:
        return ""
    from justlane.outside.certificates import digest_of_authority

    try:
        handle = beneath.regular(Path(os.path.realpath(file)))
    except OSError as error:
        raise UsageError(f"--authority: {file!r} cannot be read: {error.strerror}", "name a PEM file") from error
    try:
        return digest_of_authority(beneath.content_of(handle))
    finally:
        os.close(handle)
